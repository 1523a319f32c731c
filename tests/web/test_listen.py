"""Listen on the server.

What can be heard, whose files are whose, states from the history, what a control tries out.
"""

import json
import unittest
from typing import Any

from django.core.files.uploadedfile import TemporaryUploadedFile

from metaphon.core.edits.values import SetValue
from metaphon.core.errors import InputError
from metaphon.core.spatial.head import SHIPPED
from metaphon.web.listen.capacity import Capacity
from metaphon.web.listen.models import Reference, UserFile
from metaphon.web.listen.monitor_source import document_heard, monitor_of
from metaphon.web.mixes import journal
from tests.sounds import RATE_HZ, noise
from tests.web.base import WebTest, make_user, recording

CURVE = "\n".join(
    f"{f},{db}" for f, db in zip((20, 50, 100, 250, 500, 1000, 2000, 20000), range(8), strict=True)
)


class ListenTest(WebTest):
    def bring(self, view: str, name: str, content: bytes, *arguments: str) -> object:
        file = TemporaryUploadedFile(name, "application/octet-stream", len(content), None)
        file.write(content)
        file.seek(0)
        return self.client.post(
            self.url(view, *arguments), {"file": file}, headers={"HX-Request": "true"}
        )


class Sources(ListenTest):
    def test_everything_that_can_be_heard(self) -> None:
        empty = self.client.get(self.url("listen:sources")).json()
        self.assertEqual(empty["frames"], 0)
        one = self.bring_in("one.wav", noise(1, 2.0))
        found = self.client.get(self.url("listen:sources")).json()
        self.assertEqual(found["frames"], 2 * RATE_HZ)
        groups = {group["title"]: group["items"] for group in found["groups"]}
        self.assertEqual(groups["The mix"][0]["monitor_source"], {"target": "0+2+0"})
        self.assertEqual(groups["Alone"][0]["monitor_source"]["strip"], one.ref)
        self.assertEqual(found["labels"]["0+5+0"][3], "LFE1")
        self.assertIn(f"strip={one.ref}", found["strips"][one.ref]["address"])

    def test_pages_open_and_strangers_find_nothing(self) -> None:
        for view in ("meters", "compare", "headphones", "loudspeakers", "nonsense"):
            self.assertEqual(
                self.client.get(self.url("listen:show") + f"?view={view}").status_code, 200
            )
        self.client.force_login(make_user("bob"))
        for name in ("listen:show", "listen:sources", "listen:headphones"):
            self.assertEqual(self.fragment(name).status_code, 404)


class Documents(ListenTest):
    def test_a_state_from_the_history_and_nothing_is_changed_by_looking(self) -> None:
        one = self.bring_in("one.wav")
        self.mix.refresh_from_db()
        before = document_heard(self.mix, "now")
        revision = self.mix.revision
        for gain in (-3.0, -6.0):
            journal.apply(
                self.mix, self.user, SetValue(strips=(one.ref,), path="gain_db", value=gain)
            )
        journal.undo(self.mix, self.user)
        self.edit("intake", kind="remove_strip", strip=one.ref)
        self.bring_in("two.wav")
        self.mix.refresh_from_db()
        now = document_heard(self.mix, "now")
        self.assertEqual(document_heard(self.mix, f"revision {revision}"), before)
        self.assertEqual(document_heard(self.mix, f"revision {self.mix.revision}"), now)
        self.assertEqual(document_heard(self.mix, "now"), now)
        with self.assertRaisesRegex(InputError, "no such state"):
            document_heard(self.mix, "revision 99")

    def test_a_reference_is_heard_as_it_is_and_is_no_track(self) -> None:
        answer = self.bring("listen:bring_reference", "ref.wav", recording(noise(6, 0.5)))
        self.assertEqual(answer.status_code, 200)
        document = document_heard(self.mix, answer.json()["source"])
        self.assertEqual([track.placement.layout for track in document.tracks], ["0+5+0"])
        self.assertFalse(self.mix.strips.exists())
        refused = self.bring("listen:bring_reference", "odd.wav", recording(noise(5, 0.5)))
        self.assertIn("5 channels", self.said(refused))
        self.assertEqual(self.mix.audio_files.count(), 1)
        row = Reference.objects.get()
        self.assertEqual(self.post("listen:forget_reference", row.pk).status_code, 200)
        self.assertFalse(self.mix.audio_files.exists())
        with self.assertRaisesRegex(InputError, "no longer there"):
            document_heard(self.mix, f"reference {row.pk}")


class Own(ListenTest):
    def test_files_are_checked_kept_and_forgotten(self) -> None:
        good = self.bring("listen:bring", "mine.csv", CURVE.encode(), "headphones").json()
        row = UserFile.objects.get()
        self.assertEqual((good["key"], row.name), (f"own:{row.pk}", "mine.csv"))
        for name, kind, words in (
            ("bad.csv", "headphones", "bad.csv holds no response"),
            ("x.sofa", "head", "x.sofa cannot be read as a SOFA file"),
        ):
            self.assertIn(words, self.said(self.bring("listen:bring", name, b"rubbish", kind)))
        self.assertEqual(UserFile.objects.count(), 1)
        monitor = monitor_of(
            {"correction": {"response": good["key"]}, "binaural": {"head": "measured"}}, self.user
        )
        self.assertTrue(monitor["correction"]["response"].is_file())
        drawn = self.client.get(
            self.url("listen:headphones"),
            {"correction": json.dumps({"response": good["key"], "strength": 50})},
            headers={"HX-Request": "true"},
        )
        self.assertContains(drawn, "<path", count=7)
        self.post("listen:forget_file", row.pk)
        self.assertFalse(UserFile.objects.exists())

    def test_nobody_gets_at_the_files_of_another_or_of_the_machine(self) -> None:
        key = self.bring("listen:bring", "mine.csv", CURVE.encode(), "headphones").json()["key"]
        stranger = make_user("bob")
        for response in (key, "own:999", "../../etc/passwd", "/etc/passwd", ""):
            wanted = {"correction": {"response": response}}
            if response:
                with self.assertRaises(InputError):
                    monitor_of(wanted, stranger)
            else:
                self.assertIsNone(monitor_of(wanted, stranger)["correction"])
        monitor = monitor_of(
            {"binaural": {"head": "sphere", "head_file": "/etc/passwd"}, "worn": "/etc/passwd"},
            stranger,
        )
        self.assertNotIn("head_file", monitor["binaural"])
        self.assertEqual(monitor["worn"].name, "practice_pair.csv")

    def test_a_head_of_ones_own_is_taken_in_heard_and_rendered_for(self) -> None:
        head = self.bring("listen:bring", "mine.sofa", SHIPPED.read_bytes(), "head").json()
        monitor = monitor_of({"binaural": {"head": head["key"]}}, self.user)
        self.assertTrue(monitor["binaural"]["head_file"].is_file())
        self.assertContains(self.client.get(self.url("handover:show")), "Headphones: mine.sofa")

    def test_what_a_head_does_is_drawn(self) -> None:
        for asked, words in (
            ({}, "0.78"),
            ({"head": "sphere", "head_radius_cm": 10.0}, "0.8"),
        ):
            self.assertContains(self.head(json.dumps(asked)), words)
        for bad in ('{"head": "own:999"}', '{"head_radius_cm": 900}', "[1]", "{"):
            self.assertEqual(self.head(bad).status_code, 422, bad)

    def head(self, asked: str) -> Any:
        data = {"binaural": asked}
        return self.client.get(self.url("listen:head"), data, headers={"HX-Request": "true"})

    def test_presets(self) -> None:
        monitor = {"through": "binaural", "level_db": -6}
        self.assertIn("name", self.said(self.post("listen:keep_preset", name="", monitor="{}")))
        self.assertIn(
            "cannot be kept",
            self.said(self.post("listen:keep_preset", name="a", monitor='{"through": "x"}')),
        )
        for _ in range(2):
            self.post("listen:keep_preset", name="Night", monitor=json.dumps(monitor))
        preset = self.user.monitor_presets.get()
        self.assertEqual(preset.monitor, monitor)
        self.assertContains(self.client.get(self.url("listen:show")), "Night")
        self.post("listen:forget_preset", preset.pk)
        self.assertFalse(self.user.monitor_presets.exists())

    def test_calibration(self) -> None:
        answer = self.post("listen:calibrate", loudspeakers='{"layout": "0+5+0"}').json()
        self.assertEqual(len(answer["told"]), 4)
        self.assertEqual(
            [row["output"] for row in answer["loudspeakers"]["loudspeakers"]], [1, 2, 3, 4, 6, 5]
        )
        self.assertIn(
            "cannot be measured", self.said(self.post("listen:calibrate", loudspeakers="{"))
        )


class HowMany(unittest.TestCase):
    """Nobody is let in who would make the others stutter."""

    def test_a_newcomer_is_let_in_while_there_is_room(self) -> None:
        room = Capacity(cores=2)  # 1.2 cores to give
        self.assertTrue(all(room.admits(one) for one in ("a", "b")))
        room.costs("a", 0.4)
        room.costs("b", 0.3)
        self.assertTrue(room.admits("c"))  # counts as the mean of the others: 1.05
        self.assertFalse(room.admits("d"))
        room.costs("c", 0.1)
        self.assertTrue(room.admits("d"))
        self.assertTrue(room.admits("a"))  # who plays may jump
        room.costs("d", 0.5)
        room.stops("b")
        self.assertFalse(room.admits("b"))  # whose cost is known
        room.leaves("a")
        self.assertTrue(room.admits("b"))
        self.assertEqual(room.playing, 3)

    def test_where_many_listen_all_take_less(self) -> None:
        room = Capacity(cores=2)  # 1.2 cores to give
        for one in "abc":
            room.admits(one)
            room.costs(one, 0.15)
        self.assertFalse(room.is_crowded)
        room.admits("d")
        self.assertTrue(room.is_crowded)  # 0.6 of 1.2
        for one in "abcd":
            room.costs(one, 0.1)
        self.assertTrue(room.is_crowded)  # which is why it costs less now
        room.stops("d")
        room.stops("c")
        self.assertFalse(room.is_crowded)

    def test_the_first_always_may(self) -> None:
        room = Capacity(cores=1)
        room.costs("heavy", 3.0)
        self.assertTrue(room.admits("heavy"))
        self.assertFalse(room.admits("another"))
