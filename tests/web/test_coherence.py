"""Coherence: pairs offered, held against each other, mended, and the sum that comes of it."""

import json
import re
from html import unescape
from typing import Any

import numpy as np

from metaphon.core.document.lanes import lanes_of
from metaphon.core.document.targets import target_named
from metaphon.core.engine.plan import compile
from metaphon.core.engine.render import Output, render
from metaphon.core.process.all_pass import AllPass
from metaphon.web.jobs.models import FoldDownReport, Print
from metaphon.web.jobs.tasks import print_strips, report_fold_down, survey_mix
from metaphon.web.mixes.models import Mix
from tests.demo import bring_in_demo
from tests.sounds import RATE_HZ, noise
from tests.web.base import WebTest

_LATE = 96  # samples: 2 ms


class Pairs(WebTest):
    def setUp(self) -> None:
        super().setUp()
        sound = noise(1, 12.0, 3)
        moved = np.roll(-0.8 * sound, _LATE, axis=1)
        moved[:, :_LATE] = 0.0
        self.near, self.far = self.bring_in("Near.wav", sound), self.bring_in("Far.wav", moved)
        self.other = self.bring_in("Gull.wav", noise(1, 12.0, 9))

    def pair(self, **asked: str) -> str:
        query = {"first": "near", "other": "far", **asked}
        answer = self.client.get(self.url("coherence:pair"), query, headers={"HX-Request": "true"})
        self.assertEqual(answer.status_code, 200)
        return re.sub(r"\s+", " ", re.sub(r"<[^>]+>", " ", answer.content.decode()))

    def power_db(self) -> float:
        """The power of both together, without the gull, in a mono mix."""
        tracks = tuple(t for t in self.document().tracks if t.id != "gull")
        mix = self.document().model_copy(update={"tracks": tracks})
        plan = compile(mix)
        output = Output(target_named("0+1+0"))
        blocks = [found[0] for found in render(plan, [output])]
        sound = np.concatenate(blocks, axis=1)[:, 2000:-2000]
        return float(10.0 * np.log10(np.mean(np.square(sound, dtype=float))))

    def test_a_pair_is_told_and_mended_and_the_sum_gains_what_was_said(self) -> None:
        said = self.pair()
        self.assertIn("Far comes 2.000 ms", said)
        self.assertIn("96.0 samples, 0.69 m", said)
        self.assertIn("opposed", said)
        self.assertRegex(said, r"→ 1\.00")
        gains = re.search(r"The sum gains ([−0-9.]+) dB", said)
        assert gains
        before = self.power_db()
        command = self._command("Pull Far forward")
        answer = self.post("coherence:edit", command=json.dumps(command))
        self.assertEqual(answer.status_code, 200)
        self.assertAlmostEqual(self.power_db() - before, float(gains[1]), delta=0.2)
        after = self.pair()
        self.assertIn("the same", after)
        self.assertIn("In time and in phase: nothing to mend.", after)
        self.post("undo")
        self.assertIn("opposed", self.pair())

    def _command(self, words: str) -> dict[str, object]:
        answer = self.client.get(
            self.url("coherence:pair"),
            {"first": "near", "other": "far"},
            headers={"HX-Request": "true"},
        ).content.decode()
        for button in re.findall(r"<button[^>]*data-command=\"([^\"]+)\"[^>]*>([^<]+)<", answer):
            if button[1].strip() == words:
                found: dict[str, object] = json.loads(button[0].replace("&quot;", '"'))
                return found
        raise AssertionError(f"no button says {words}")

    def test_the_other_way_round_the_first_is_held_back(self) -> None:
        command = self._command("Hold Near back")
        self.post("coherence:edit", command=json.dumps(command))
        near = self.document().find_strip("near")
        assert near
        [basics] = near.chain
        self.assertEqual((basics.delay_ms, basics.polarity_inverted), (2.0, True))
        self.assertIn("nothing to mend", self.pair())

    def test_a_mend_is_tried_before_it_is_made(self) -> None:
        now = self.document()
        said = self.pair(delay_ms="-1,5", inverted="on")
        self.assertIn("Pull Far forward", said)
        self.assertNotRegex(said, r"→ 1\.00")
        self.assertEqual(self.document(), now)

    def test_a_rotation_is_offered_tried_and_put_on_the_other(self) -> None:
        sound = noise(1, 12.0, 3).astype(np.float32)
        self.bring_in("Turned.wav", AllPass(frequency_hz=2500.0, order="2").apply(sound, RATE_HZ))
        both = {"first": "turned", "other": "near", "delay_ms": "0"}
        self.assertRegex(self.pair(**both), r"Rotate: (0\.[3-9]|[1-9])")
        tried = {**both, "rotation_hz": "2500", "rotation_order": "2"}
        said = self.pair(**tried)
        self.assertNotIn("Rotate:", said)
        self.assertRegex(said, r"→ (1\.00|0\.9)")
        answer = self.client.get(
            self.url("coherence:pair"), tried, headers={"HX-Request": "true"}
        ).content.decode()
        [command] = set(re.findall(r'data-command="([^"]+)"', answer))
        self.post("coherence:edit", command=unescape(command))
        strip = self.document().find_strip("near")
        assert strip
        [one] = strip.chain
        self.assertEqual((one.kind, one.frequency_hz, one.order), ("all_pass", 2500.0, "2"))
        self.assertRegex(
            self.pair(**both), r"Correlation (1\.00|0\.9)"
        )  # it is seen to be in phase

    def test_a_whole_group_is_aligned_to_one_in_one_step(self) -> None:
        self.edit("flow", kind="group", strips=["near", "far", "gull"], name="Mics")
        [group] = self.document().groups
        address = self.url("coherence:align_group") + "?first=near&other=far"
        answer = self.client.post(address, {"group": group.id}, headers={"HX-Request": "true"})
        self.assertIn("Far aligned to Near. Nothing in common: Gull.", answer["HX-Trigger"])
        self.assertIn("In time and in phase", self.pair())
        gull = self.document().find_strip("gull")
        assert gull
        self.assertEqual(gull.chain, ())
        again = self.client.post(address, {"group": group.id}, headers={"HX-Request": "true"})
        self.assertIn("are in time", again["HX-Trigger"])
        self.post("undo")
        self.assertIn("opposed", self.pair())

    def test_what_moves_is_followed_by_a_lane(self) -> None:
        address = self.url("coherence:follow") + "?first=near&other=far"
        asked = {"follow_from_s": "1", "follow_to_s": "9", "most_ms_a_s": "1"}
        answer = self.client.post(address, asked, headers={"HX-Request": "true"})
        self.assertEqual(answer.status_code, 200)
        lane = lanes_of(self.document(), "far")["chain/0/delay_ms"]
        np.testing.assert_allclose(lane.points.values, -2.0, atol=0.02)
        far = self.document().find_strip("far")
        assert far
        self.assertTrue(far.chain[0].polarity_inverted)
        for wrong, words in (
            ({"follow_to_s": "1.5"}, "1 s to 10 minutes"),
            ({"most_ms_a_s": "90"}, "may be 0.1 to 20"),
            ({"follow_from_s": "x"}, "The start is a number"),
        ):
            answer = self.client.post(address, {**asked, **wrong}, headers={"HX-Request": "true"})
            self.assertIn(words, answer["HX-Trigger"])
        self.assertIn(
            "nothing in common",
            self.client.post(address.replace("far", "gull"), asked, headers={"HX-Request": "true"})[
                "HX-Trigger"
            ],
        )

    def test_unrelated_sounds_are_left_alone(self) -> None:
        said = self.pair(other="gull")
        self.assertIn("Not the same sound", said)
        self.assertNotIn("Pull", said)

    def test_every_zoom_is_drawn_with_as_many_points(self) -> None:
        for width in ("0.01", "0.2", "5", "30", "3600"):
            answer = self.client.get(
                self.url("coherence:pair"),
                {"first": "near", "other": "far", "width_s": width, "at_s": "1"},
                headers={"HX-Request": "true"},
            ).content.decode()
            paths = re.findall(r'class="(?:one|two)"[^>]*d="([^"]+)"', answer)
            self.assertEqual(len(paths), 4, width)
            for path in paths:
                self.assertEqual(len(path.split()) // 2, 1600, width)
                self.assertNotIn("nan", path)

    def test_what_cannot_be_is_said(self) -> None:
        for asked, words in (
            ({"other": "none"}, "no longer in the mix"),
            ({"at_s": "soon"}, "The time shown is a number"),
            ({"delay_ms": "9000"}, "may be -200 to 1000"),
        ):
            page = self.client.get(self.url("coherence:show"), {"first": "near", **asked})
            self.assertContains(page, words)
        for strip in self.document().strips:
            if strip.id != "near":
                self.edit("flow", kind="remove_strip", strip=strip.id)
        self.assertContains(
            self.client.get(self.url("coherence:show")), "Two recordings are needed"
        )

    def test_the_pairs_of_the_demo_are_offered_by_themselves(self) -> None:
        bring_in_demo()
        mix = Mix.objects.get(title="The Lamp at Skerrow")
        survey_mix(mix_id=mix.pk)
        pairs = {frozenset((p["first"], p["other"])) for p in mix.survey.pairs}
        self.assertIn(frozenset(("buoy_near", "buoy_far")), pairs)


class Phase(WebTest):
    def test_a_chain_and_each_processor_are_drawn_with_their_figures(self) -> None:
        page = self.client.get(self.url("coherence:show"), {"view": "phase"})
        self.assertContains(page, "No track or bus has a processor yet")
        gull = self.bring_in("gull.wav")
        for kind in ("basics", "eq", "network_reverb"):
            self.edit("flow", kind="add_processor", strip=gull.ref, processor=kind)
        self.edit("flow", kind="add_band", strip=gull.ref, place=1)
        self.set(gull, "chain/1/phase", "linear")
        self.set(gull, "basics/delay_ms", 1.0)

        def shown(**asked: str) -> str:
            query = {"view": "phase", "strip": gull.ref, **asked}
            return self.client.get(self.url("coherence:show"), query).content.decode()

        figures = json.loads(unescape(re.findall(r'data-figures="([^"]+)"', shown(part="0"))[0]))
        self.assertEqual(set(figures), {"hz", "db", "deg", "ms", "rate"})
        np.testing.assert_allclose(figures["ms"], 1.0, atol=0.001)
        self.assertIn("As minimum phase", shown(part="1"))
        self.assertIn("3840 samples", shown(part="1"))
        self.assertIn("measured", shown(part="2"))
        self.assertIn("measured", shown())  # the whole, since one part has no formula
        for asked in ({"part": "99"}, {"part": "x"}, {"strip": "none"}, {"unwrapped": "on"}):
            self.assertIn("Magnitude, dB", shown(**asked))


class Against(WebTest):
    """Two sides, two strips, in and out, and the way to the mix."""

    def setUp(self) -> None:
        super().setUp()
        self.pair = self.bring_in("Bells.wav", noise(2, 3.0, 3))
        self.other = self.bring_in("Gull.wav", noise(1, 3.0, 4))

    def shown(self, **asked: str) -> str:
        page = self.client.get(
            self.url("coherence:show"), {"view": "phase", "strip": "bells", **asked}
        )
        self.assertEqual(page.status_code, 200)
        return re.sub(r"\s+", " ", re.sub(r"<[^>]+>", " ", page.content.decode()))

    def test_the_lead_of_one_chain_over_another_is_marked_where_it_pulls(self) -> None:
        self.set(self.pair, "basics/width", 1.0)
        self.set(self.other, "basics/delay_ms", 12.0)
        said = self.shown(against="gull")
        self.assertIn("Lead, ms: most 12.00", said)
        self.assertIn("it pulls the image", said)
        self.set(self.other, "basics/delay_ms", 0.4)
        said = self.shown(against="gull")
        self.assertIn("most 0.40", said)
        self.assertNotIn("it pulls the image", said)

    def test_left_against_right_where_a_band_is_for_one_side(self) -> None:
        self.edit("flow", kind="add_processor", strip="bells", processor="eq")
        band = {"strip": "bells", "place": 0, "shape": "low_cut", "frequency_hz": 60.0}
        self.edit("flow", kind="add_band", **band)
        self.assertIn("most 0.00", self.shown(against="right"))
        self.set(self.pair, "chain/0/bands/0/side", "left")
        found = re.search(r"most (−?[0-9.]+) at (\d+) Hz", self.shown(against="right"))
        assert found
        # a Butterworth low-cut of second order: the left comes later about its corner
        self.assertLess(float(found[1].replace("−", "-")), -3.0)
        self.assertLess(float(found[2]), 80.0)

    def test_what_goes_in_and_comes_out_and_a_polarity_that_is_opposed(self) -> None:
        self.set(self.pair, "basics/output_gain_db", -0.1)
        said = self.shown(pane="waves")
        found = re.search(r"null (−[0-9.]+) dB", said)
        assert found
        # 20 lg(1 - 10^(-0.1 / 20)) = -38.8 dB
        self.assertAlmostEqual(float(found[1].replace("−", "-")), -38.8, delta=0.3)
        self.assertNotIn("opposed", said)
        self.set(self.pair, "basics/polarity_inverted", "on")
        self.assertIn("polarity is opposed", self.shown(pane="waves"))

    def test_the_way_to_the_mix_goes_through_its_buses(self) -> None:
        self.set(self.pair, "basics/delay_ms", 1.0)
        self.edit("flow", kind="add_bus", name="All")
        self.edit("flow", kind="route", strips=["bells"], to="all")
        self.edit("flow", kind="add_processor", strip="all", processor="basics")
        self.edit("flow", kind="set", strips=["all"], path="chain/0/delay_ms", value=2.0)
        for asked, late_ms in (({}, 1.0), ({"whole": "on"}, 3.0)):
            page = self.client.get(
                self.url("coherence:show"), {"view": "phase", "strip": "bells", **asked}
            ).content.decode()
            figures = json.loads(unescape(re.findall(r'data-figures="([^"]+)"', page)[0]))
            np.testing.assert_allclose(figures["ms"], late_ms, atol=0.01)


class FoldDown(WebTest):
    def shown(self, **asked: str) -> str:
        page = self.client.get(self.url("coherence:show"), {"view": "fold", **asked})
        return re.sub(r"\s+", " ", re.sub(r"<[^>]+>", " ", page.content.decode()))

    def measure(self, strip: str = "") -> FoldDownReport:
        answer = self.post("coherence:measure_fold", strip=strip)
        self.assertContains(answer, "Cancel")
        row = FoldDownReport.objects.first()
        assert row
        report_fold_down(report_id=row.pk)
        return row

    def test_a_report_is_asked_for_measured_shown_and_said_to_be_old(self) -> None:
        self.assertIn("Nothing to fold down", self.shown())
        one = noise(1, 3.0, 1)
        wide = self.bring_in("Wide.wav", np.concatenate([one, -0.5 * one]))
        self.assertIn("Not measured yet", self.shown())
        self.measure()
        said = self.shown()
        self.assertIn("Stereo to mono", said)
        self.assertIn("−10.0 dB", said)  # 2 (1 + 1/4) over (1/2)^2
        self.assertIn("Lowest at", said)
        self.set(wide, "gain_db", -3.0)
        self.assertIn("The mix has changed since", self.shown())
        self.measure()
        self.assertNotIn("The mix has changed since", self.shown())
        self.assertEqual(FoldDownReport.objects.count(), 1)  # the one before is gone
        self.assertIn("Not measured yet", self.shown(strip=wide.ref))
        self.measure(wide.ref)
        self.assertEqual(FoldDownReport.objects.count(), 2)
        self.assertIn("Stereo to mono", self.shown(strip=wide.ref))

    def test_it_can_be_stopped_and_what_cannot_be_is_said(self) -> None:
        self.bring_in("Gull.wav")
        self.post("coherence:measure_fold", strip="")
        row = FoldDownReport.objects.get()
        answer = self.post("coherence:cancel_fold", row.pk)
        self.assertContains(answer, "Not measured yet")
        report_fold_down(report_id=row.pk)
        row.refresh_from_db()
        self.assertEqual((row.status, row.figures), ("cancelled", []))
        answer = self.post("coherence:measure_fold", strip="gone")
        self.assertIn("no longer in the mix", answer["HX-Trigger"])


class Width(WebTest):
    def setUp(self) -> None:
        super().setUp()
        self.mono = self.bring_in("Gull.wav", noise(1, 8.0, 3))

    def shown(self, **asked: str) -> str:
        page = self.client.get(self.url("coherence:show"), {"view": "width", **asked})
        return re.sub(r"\s+", " ", re.sub(r"<[^>]+>", " ", page.content.decode()))

    def add(self, kind: str) -> Any:
        command = {"kind": "add_processor", "strip": "gull", "processor": kind}
        return self.client.post(
            self.url("coherence:edit") + "?view=width&strip=gull",
            {"command": json.dumps(command)},
            headers={"HX-Request": "true"},
        )

    def figure(self, said: str, row: str) -> float:
        found = re.search(rf"{row} (−?[0-9.]+)", said)
        assert found, said
        return float(found[1].replace("−", "-"))

    def test_a_mono_track_is_widened_and_told_before_and_after(self) -> None:
        self.assertAlmostEqual(self.figure(self.shown(), "After, measured"), 1.0)
        answer = self.add("widener")
        self.assertEqual(answer["HX-Trigger"], "mix-edited, mix-changed")
        self.set(self.mono, "chain/0/correlation", 0.2)
        said = self.shown(strip="gull")
        self.assertAlmostEqual(self.figure(said, "Before"), 1.0)
        self.assertAlmostEqual(self.figure(said, "After, measured"), 0.2, delta=0.06)
        self.assertAlmostEqual(self.figure(said, "After, foretold"), 0.2, delta=0.01)
        tried = {"kind": "set", "strips": ["gull"], "path": "chain/0/correlation", "value": -0.3}
        asked = {"strip": "gull", "start_s": "1", "command": json.dumps(tried)}
        answer = self.client.get(
            self.url("coherence:width_picture"), asked, headers={"HX-Request": "true"}
        )
        plain = re.sub(r"\s+", " ", re.sub(r"<[^>]+>", " ", answer.content.decode()))
        self.assertAlmostEqual(self.figure(plain, "After, measured"), -0.3, delta=0.06)
        strip = self.document().find_strip("gull")
        assert strip
        self.assertEqual(strip.chain[0].correlation, 0.2)  # it was only tried

    def test_doubles_are_compared_and_printed_to_their_place(self) -> None:
        self.add("doubler")
        said = self.shown(strip="gull")
        self.assertAlmostEqual(self.figure(said, "Doubles against original"), 0.0, delta=0.1)
        self.assertIn("Two players", said)
        self.post("flow:print", ids="gull", doubler="0", start_s="2", end_s="5")
        row = Print.objects.get()
        print_strips(print_id=row.pk)
        row.refresh_from_db()
        self.assertEqual((row.status, row.message), ("done", ""))
        double = next(t for t in self.document().tracks if t.name == "Gull double")
        self.assertEqual((double.clips[0].start_s, double.print_of), (2.0, None))
        gull = self.document().find_strip("gull")
        assert gull
        self.assertEqual(gull.chain[0].doubles, 0.0)
        self.assertFalse(gull.resting)
        self.post("undo")
        self.assertIsNone(self.document().find_strip(double.id))
        answer = self.post("flow:print", ids="gull", doubler="4")
        self.assertIn("no doubler", answer["HX-Trigger"])

    def test_strips_that_are_wide_or_silent_or_gone(self) -> None:
        self.bring_in("Rain.wav", noise(6, 1.0))
        self.assertNotIn("Rain", self.shown())
        self.assertIn("Gull", self.shown(strip="gone"))
        self.edit("flow", kind="add_bus", name="Birds")
        self.edit("flow", kind="set_layout", strip="birds", layout="0+2+0")
        self.assertIn("Birds has no sound yet", self.shown(strip="birds"))
        self.assertIn("may be 0 to", self.shown_fault(from_s="-4"))

    def shown_fault(self, **asked: str) -> str:
        page = self.client.get(self.url("coherence:show"), {"view": "width", **asked})
        return page.content.decode()


class Equaliser(WebTest):
    def setUp(self) -> None:
        super().setUp()
        self.pair = self.bring_in("Bells.wav", noise(2, 2.0, 3))

    def board(self, **asked: str) -> str:
        page = self.client.get(self.url("coherence:show"), {"view": "equaliser", **asked})
        return page.content.decode()

    def test_bands_are_drawn_with_what_they_set_and_sides_with_curves_of_their_own(self) -> None:
        self.assertIn("Bells has no equaliser", self.board())
        self.edit("flow", kind="add_processor", strip="bells", processor="eq")
        for hertz, gain in ((200.0, -6.0), (3000.0, 5.0)):
            band = {"strip": "bells", "place": 0, "frequency_hz": hertz, "gain_db": gain}
            self.edit("flow", kind="add_band", **band)
        board = self.board()
        handles = [json.loads(unescape(h)) for h in re.findall(r'data-handle="([^"]+)"', board)]
        self.assertEqual([h["values"]["x"] for h in handles], [200.0, 3000.0])
        self.assertEqual(handles[1]["paths"]["y"], "chain/0/bands/1/gain_db")
        self.assertEqual(re.findall(r'data-level="(\w+)"', board), ["both"])
        self.set(self.pair, "chain/0/bands/1/side", "side")
        self.assertEqual(re.findall(r'data-level="(\w+)"', self.board()), ["side"])
        self.set(self.pair, "chain/0/bands/0/side", "left")
        self.assertEqual(re.findall(r'data-level="(\w+)"', self.board()), ["left", "side"])
        refused = {"strip": "bells", "place": 0, "frequency_hz": 5.0}
        answer = self.edit("flow", kind="add_band", **refused)
        self.assertIn("Equaliser:", answer["HX-Trigger"])

    def test_a_curve_is_drawn_as_a_command_would_have_it(self) -> None:
        self.edit("flow", kind="add_processor", strip="bells", processor="eq")
        band = {"strip": "bells", "place": 0, "frequency_hz": 1000.0, "gain_db": 0.0}
        self.edit("flow", kind="add_band", **band)
        path = "chain/0/bands/0/gain_db"
        tried = {"kind": "set", "strips": ["bells"], "path": path, "value": 9.0}
        asked = {"strip": "bells", "place": "0", "command": json.dumps(tried)}
        answer = self.client.get(
            self.url("coherence:curves"), asked, headers={"HX-Request": "true"}
        ).json()
        heights = [float(y) for y in answer["levels"]["both"][1:].split()[1::2]]
        self.assertAlmostEqual(min(heights), 150.0 * (1.0 - 9.0 / 18.0), delta=0.5)  # 9 of 18 dB up
        for asked in ({"command": "{}"}, {"command": "["}, {}):
            answer = self.client.get(
                self.url("coherence:curves"), asked, headers={"HX-Request": "true"}
            )
            self.assertEqual(answer.status_code, 422)

    def test_a_resonator_is_a_pad_of_one(self) -> None:
        self.edit("flow", kind="add_processor", strip="bells", processor="resonator")
        [handle] = re.findall(r'data-handle="([^"]+)"', self.board())
        self.assertEqual(
            json.loads(unescape(handle))["paths"],
            {
                "x": "chain/0/frequency_hz",
                "y": "chain/0/emphasis_db",
                "q": "chain/0/sharpness",
            },
        )
