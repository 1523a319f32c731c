"""Handover's further views through the server: programmes, receiver, translation, platform."""

import json
from typing import Any

from metaphon.web.jobs.models import Submission
from metaphon.web.jobs.tasks import receive_file, render_mix, report_translation
from metaphon.web.mixes.snapshots import document_of
from tests.sounds import noise
from tests.web.base import WebTest


class ProgrammesTest(WebTest):
    def setUp(self) -> None:
        super().setUp()
        self.voice = self.bring_in("Narrator.wav", noise(1, 1.0, 1))
        self.rain = self.bring_in("Rain.wav", noise(2, 1.0, 2))
        for name in ("0+5+0", "binaural"):
            self.edit("handover", kind="remove_target", name=name)

    def programmes(self, **command: object) -> Any:
        return self.post("handover:edit_alternatives", command=json.dumps(command))

    def quiet_one(self) -> None:
        self.programmes(kind="add_alternative", name="Quiet", language="en")
        given = {"alternative": "quiet", "strip": self.voice.ref, "path": "heard"}
        self.programmes(kind="set_variation", **given, value="silent")

    def hand_over(self, **form: Any) -> Any:
        self.post("handover:start", **form)
        row = self.mix.renders.first()
        assert row is not None
        render_mix(render_id=row.pk)
        row.refresh_from_db()
        self.assertEqual(row.status, "done", row.message)
        return row


class Alternatives(ProgrammesTest):
    def test_they_are_made_changed_undone_and_kept(self) -> None:
        page = self.client.get(self.url("handover:show") + "?view=alternatives")
        self.assertContains(page, "One programme for everybody")
        self.quiet_one()
        answer = self.programmes(
            kind="set_varied", strip=self.voice.ref, path="least_db", value="-12 dB"
        )
        self.assertContains(answer, "Quiet")
        self.mix.refresh_from_db()
        held = document_of(self.mix).alternatives
        self.assertEqual(held.programmes[0].variations[0].heard, "silent")
        self.assertEqual(held.varied[0].least_db, -12.0)
        self.client.post(self.url("undo"))
        self.mix.refresh_from_db()
        self.assertEqual(document_of(self.mix).alternatives.varied[0].least_db, 0.0)

    def test_nonsense_is_refused_in_a_sentence(self) -> None:
        self.quiet_one()
        for command, words in (
            ({"kind": "add_alternative", "name": " "}, "needs a name"),
            ({"kind": "add_alternative", "name": "Quiet"}, "choose another name"),
            ({"kind": "add_alternative", "name": "X", "language": "norwegian"}, "by its code"),
            (
                {
                    "kind": "set_alternative",
                    "alternative": "quiet",
                    "path": "language",
                    "value": "!",
                },
                "by its code",
            ),
            ({"kind": "remove_alternative", "alternative": "gone"}, "no longer in the mix"),
            (
                {"kind": "set_varied", "strip": self.voice.ref, "path": "most_db", "value": "40"},
                "may be 0 to 12",
            ),
            (
                {"kind": "set_varied", "strip": self.rain.ref, "path": "most_db", "value": "4"},
                "same",
            ),
        ):
            self.assertIn(words, self.said(self.programmes(**command)), command)

    def test_a_track_that_goes_takes_nothing_with_it_and_comes_back_so(self) -> None:
        self.quiet_one()
        self.edit("intake", kind="remove_strip", strip=self.voice.ref)
        page = self.client.get(self.url("handover:show") + "?view=alternatives")
        self.assertEqual(page.status_code, 200)
        self.assertNotContains(page, "Quiet, Narrator")
        self.client.post(self.url("undo"))
        page = self.client.get(self.url("handover:show") + "?view=alternatives")
        self.assertContains(page, "Quiet, Narrator")

    def test_each_is_a_file_with_its_loudness(self) -> None:
        self.quiet_one()
        row = self.hand_over(alternatives=["0+2+0"], level="as_it_is")
        titles = [file.title for file in row.files.filter(kind="audio")]
        self.assertEqual(titles, ["Stereo (0+2+0)", "Quiet, Stereo (0+2+0)"])
        page = self.client.get(self.url("handover:show") + "?view=alternatives")
        (programme,) = page.context["programmes"]
        self.assertLess(
            programme[1].figures["integrated_lufs"],
            page.context["own_loudness"].figures["integrated_lufs"],
        )

    def test_the_receiver_offers_what_is_allowed(self) -> None:
        address = self.url("handover:show") + "?view=receiver"
        self.assertContains(self.client.get(address), "Nothing to change")
        self.quiet_one()
        self.programmes(kind="set_varied", strip=self.voice.ref, path="most_db", value="6")
        page = self.client.get(address)
        self.assertContains(page, f'data-personal="{self.voice.ref} gain_db"')
        self.assertContains(page, 'data-high="6.0"')
        self.assertNotContains(page, f'data-on="{self.voice.ref}"')


class FewerObjects(ProgrammesTest):
    def test_what_it_costs_is_told(self) -> None:
        for n in range(3):
            strip = self.bring_in(f"gull{n}.wav", noise(1, 1.0, n + 5))
            self.edit("field", kind="place", strips=[strip.ref], mode="object")
            self.set(strip, "placement/azimuth_deg", 20.0 * n, workspace="field")
        headers = {"HX-Request": "true"}
        address = self.url("handover:fewer")
        told = self.client.get(address, {"objects": "2"}, headers=headers)
        self.assertContains(told, "2 of 3 objects")
        self.assertContains(told, "gull1")
        refused = self.client.get(address, {"objects": "x"}, headers=headers)
        self.assertIn("is a whole number", self.said(refused))


class Translation(ProgrammesTest):
    def test_it_is_measured_and_says_what_is_understood(self) -> None:
        page = self.client.get(self.url("handover:show") + "?view=translation")
        self.assertEqual(page.context["speech"], self.voice.ref)  # by its name
        self.assertContains(page, "Hear Telephone")
        self.post("handover:measure_translation", strip=self.voice.ref)
        row = self.mix.translation_reports.get()
        report_translation(report_id=row.pk)
        row.refresh_from_db()
        self.assertEqual(row.status, "done", row.message)
        told = self.fragment("handover:translation")
        self.assertEqual(told.context["places"][0]["measured"], False)  # nobody asked for it so
        page = self.client.get(self.url("handover:show") + "?view=translation")
        self.assertFalse(page.context["old"])
        self.assertTrue(all(one["measured"] for one in page.context["places"]))
        self.assertIn(page.context["places"][0]["word"], ("pass", "warn", "fail"))
        levels = [json.loads(one["through"])["match_db"] for one in page.context["places"]]
        self.assertLessEqual(max(levels), 0.0)
        self.set(self.voice, "gain_db", -6.0)
        page = self.client.get(self.url("handover:show") + "?view=translation")
        self.assertTrue(page.context["old"])

    def test_it_can_be_left_off(self) -> None:
        self.post("handover:measure_translation", strip="")
        row = self.mix.translation_reports.get()
        self.post("handover:cancel_translation", row.pk)
        row.refresh_from_db()
        self.assertEqual(row.status, "cancelled")
        gone = self.post("handover:measure_translation", strip="gone")
        self.assertIn("no longer in the mix", self.said(gone))


class Platform(ProgrammesTest):
    def sent(self, file: Any, rules: str) -> Submission:
        self.post("handover:send", file=str(file.pk), rules=rules)
        row = self.mix.submissions.first()
        assert row is not None
        receive_file(submission_id=row.pk)
        row.refresh_from_db()
        return row

    def test_it_refuses_with_reasons_and_then_accepts(self) -> None:
        page = self.client.get(self.url("handover:show") + "?view=platform")
        self.assertContains(page, "Nothing is handed over yet")
        first = self.hand_over(level="as_it_is")
        row = self.sent(first.files.get(kind="audio"), "broadcast")
        wrong = [one["asked"] for one in row.figures["checks"] if not one["ok"]]
        self.assertEqual(wrong[0], "−23.0 LUFS ± 0.5 LU")
        second = self.hand_over(level="gain", loudness_lufs="-23")
        row = self.sent(second.files.get(kind="audio"), "broadcast")
        self.assertTrue(row.figures["accepted"], row.figures)
        page = self.client.get(self.url("handover:show") + "?view=platform")
        self.assertContains(page, "Accepted")
        self.assertContains(page, "Refused")

    def test_positions_are_asked_for_and_held_to_what_they_tell(self) -> None:
        done = self.hand_over(adm="on", level="as_it_is")
        plain, positions = done.files.filter(kind="audio")
        self.assertFalse(self.sent(plain, "immersive").figures["accepted"])
        row = self.sent(positions, "immersive")
        self.assertTrue(row.figures["accepted"], row.figures)

    def test_nonsense_is_refused(self) -> None:
        done = self.hand_over(level="as_it_is")
        file = done.files.get(kind="audio")
        self.assertIn("asks for", self.said(self.post("handover:send", file=file.pk, rules="x")))
        for number, words in (("", "Choose a file"), ("999999", "no longer there")):
            answer = self.post("handover:send", file=number, rules="broadcast")
            self.assertIn(words, self.said(answer))
        self.post("handover:send", file=str(file.pk), rules="broadcast")
        self.post("handover:remove", done.pk)
        row = self.mix.submissions.first()
        assert row is not None
        receive_file(submission_id=row.pk)
        row.refresh_from_db()
        self.assertIn("was removed", row.message)


class Left(ProgrammesTest):
    def test_a_finding_is_left_with_a_reason_that_the_report_gives(self) -> None:
        self.edit("intake", kind="add_bus", name="Spare")
        shown = self.fragment("findings:show")
        (row,) = shown.context["rows"]
        about = {"rule": row.finding.rule, "subject": row.finding.subject, "other": ""}
        self.assertIn("Say why", self.said(self.post("findings:leave", **about, reason=" ")))
        answer = self.post("findings:leave", **about, reason="Kept for the trailer")
        self.assertContains(answer, "Left: Kept for the trailer")
        self.assertEqual(answer.context["count"], 0)
        done = self.hand_over(level="as_it_is")
        paper = self.client.get(self.url("handover:report", done.pk))
        self.assertContains(paper, "Left: Kept for the trailer")
        answer = self.post("findings:leave", **about, again="")
        self.assertEqual(answer.context["count"], 1)
        gone = {**about, "subject": "gone"}
        self.assertIn("no longer found", self.said(self.post("findings:leave", **gone, reason="x")))


class Report(ProgrammesTest):
    def test_it_tells_of_channels_downmixes_and_what_was_read_again(self) -> None:
        self.edit("handover", kind="add_target", name="0+5+0")
        self.edit("handover", kind="add_target", name="binaural")
        done = self.hand_over(level="as_it_is")
        stereo, five, ears = done.files.filter(kind="audio")
        self.assertEqual(stereo.figures["silent_channels"], [])
        self.assertIn("LFE1", five.figures["silent_channels"])
        self.assertIsNotNone(five.figures["downmix"]["integrated_lufs"])
        self.assertIsNone(ears.figures["downmix"])
        for file in (stereo, five, ears):
            self.assertEqual([one for one in file.figures["conformance"] if not one["ok"]], [])
        paper = self.client.get(self.url("handover:report", done.pk))
        self.assertContains(paper, "Headphones against stereo")
        self.assertContains(paper, "Channels in the order of 5.1 (0+5+0)")
