"""Flow: many strips at once, groups, sends, chains, findings and their mends, prints."""

from unittest.mock import patch

import numpy as np
import soundfile

from metaphon.core.document.lanes import lanes_of
from metaphon.core.document.mix import PROGRAMME
from metaphon.core.document.mix import Mix as Scene
from metaphon.core.edits.values import SetValue
from metaphon.core.engine.levels import levels
from metaphon.core.engine.plan import compile
from metaphon.core.engine.render import render
from metaphon.core.files.apart import TooMuch
from metaphon.web.flow.map import draw
from metaphon.web.jobs.models import Print
from metaphon.web.jobs.tasks import print_strips, survey_mix
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.snapshots import document_of
from tests.demo import bring_in_demo
from tests.sounds import RATE_HZ, noise, outputs_of
from tests.web.base import StripOf, WebTest


class FlowTest(WebTest):
    def setUp(self) -> None:
        super().setUp()
        self.one, self.two, self.three = (
            self.bring_in(f"{name}.wav") for name in ("one", "two", "three")
        )
        self.ids = [self.one.ref, self.two.ref]
        self.bus = self.make_bus("Boats")

    def make_bus(self, name: str, layout: str = "0+2+0") -> StripOf:
        self.edit("flow", kind="add_bus", name=name, layout=layout)
        return self.named(name)


class ManyAtOnce(FlowTest):
    def test_to_a_bus_and_out_of_the_mix_is_one_step(self) -> None:
        before = self.mix.journal.count()
        self.edit("flow", kind="route", strips=self.ids, to=self.bus.ref)
        self.assertEqual(self.mix.journal.count(), before + 1)
        for strip in (self.one, self.two):
            self.assertEqual(strip.output, self.bus.ref)
        self.post("undo")
        self.assertEqual({self.one.output, self.two.output}, {PROGRAMME})

    def test_sends_of_many(self) -> None:
        self.edit(
            "flow", kind="send", strips=[*self.ids, self.bus.ref], bus=self.bus.ref, level_db=-12
        )
        sent = {strip.name: strip.sends for strip in self.document().strips if strip.sends}
        self.assertEqual(sorted(sent), ["one", "two"])
        for [send] in sent.values():
            self.assertEqual((send.bus, send.level_db), (self.bus.ref, -12.0))

    def test_bulk_actions(self) -> None:
        self.edit("flow", kind="place", strips=self.ids, mode="object")
        self.set(self.one, "muted", "on", also=[self.two])
        self.set(self.one, "basics/polarity_inverted", True, also=[self.two])
        self.set(self.one, "gain_db", "-6")
        self.edit("flow", kind="shift_gain", strips=self.ids, by_db=-1.5)
        one, two = (self.one, self.two)
        self.assertEqual([one.gain_db, two.gain_db], [-7.5, -1.5])
        for strip in (one, two):
            self.assertEqual((strip.placement.mode, strip.muted), ("object", True))
            self.assertTrue(strip.chain[0].polarity_inverted)
        self.set(self.one, "resting", True, also=[self.two])
        self.assertTrue(all(strip.resting for strip in (self.one, self.two)))
        self.assertIn(
            "nothing is chosen",
            self.said(self.edit("flow", kind="set", strips=[], path="muted", value=True)),
        )

    def test_a_value_typed_on_one_of_the_chosen_moves_them_all(self) -> None:
        self.set(self.two, "gain_db", "-10")
        self.set(self.one, "gain_db", "-3", also=[self.two])
        self.assertEqual([s.gain_db for s in (self.one, self.two, self.three)], [-3.0, -13.0, 0.0])


class Groups(FlowTest):
    def setUp(self) -> None:
        super().setUp()
        self.edit("flow", kind="group", strips=self.ids, name="Boat things")
        [self.group] = self.document().groups

    def test_gains_keep_their_differences_up_to_the_top_and_silence(self) -> None:
        self.set(self.one, "gain_db", "-10", groups=False)
        self.set(self.two, "gain_db", "6")
        self.assertEqual([s.gain_db for s in (self.one, self.two)], [-4.0, 6.0])
        self.set(self.one, "gain_db", "10")
        self.assertEqual([s.gain_db for s in (self.one, self.two)], [2.0, 12.0])
        self.set(self.one, "gain_db", "-120", groups=False)
        self.set(self.two, "gain_db", "-20")
        self.assertEqual([s.gain_db for s in (self.one, self.two)], [-120.0, -20.0])

    def test_mutes_and_positions(self) -> None:
        self.set(self.one, "muted", "on")
        self.assertEqual([s.muted for s in (self.one, self.two, self.three)], [True, True, False])
        self.set(self.one, "placement/azimuth_deg", "170")
        self.assertEqual((self.two,)[0].placement.azimuth_deg, 0.0)
        self.edit(
            "flow", kind="group_moves", group=self.group.id, moves="moves_position", value=True
        )
        self.set(self.two, "placement/azimuth_deg", "20")
        self.assertEqual([s.placement.azimuth_deg for s in (self.one, self.two)], [-170.0, 20.0])

    def test_groups_are_in_the_document_and_vanish_when_empty(self) -> None:
        document = document_of(self.mix)
        self.assertEqual(
            (document.groups[0].name, document.tracks[0].group),
            ("Boat things", document.groups[0].id),
        )
        self.edit("flow", kind="group", strips=self.ids, name="")
        self.assertEqual(self.document().groups, ())
        self.post("undo")
        self.assertEqual(self.one.group, self.group.id)


class Sends(FlowTest):
    def test_tap_mute_and_own_azimuth(self) -> None:
        head = f"sends/{self.bus.ref}"
        self.edit("flow", kind="send", strips=[self.one.ref], bus=self.bus.ref)
        for name, value in (
            ("level_db", "-9 dB"),
            ("tap", "strip"),
            ("muted", "on"),
            ("azimuth_deg", "-30,5"),
        ):
            self.set(self.one, f"{head}/{name}", value)
        [send] = self.one.sends
        self.assertEqual(
            (send.level_db, send.tap, send.muted, send.azimuth_deg), (-9.0, "strip", True, -30.5)
        )
        self.set(self.one, f"{head}/azimuth_deg", "")
        self.assertIsNone(self.one.sends[0].azimuth_deg)
        self.assertEqual(self.set(self.one, f"{head}/azimuth_deg", "181").status_code, 422)

    def test_loops_are_refused_when_they_are_made(self) -> None:
        other = self.make_bus("Cave")
        self.edit("flow", kind="route", strips=[self.bus.ref], to=other.ref)
        self.assertIn(
            "loop",
            self.said(
                self.edit("flow", kind="send", strips=[other.ref], bus=self.bus.ref, level_db=-9)
            ),
        )
        self.assertFalse(other.sends)


class Chains(FlowTest):
    def add(self, kind: str) -> int:
        """Adds a processor; gives its place."""
        self.edit("flow", kind="add_processor", strip=self.one.ref, processor=kind)
        return len(self.one.chain) - 1

    def on(self, kind: str, **more: object) -> object:
        return self.edit("flow", kind=kind, strip=self.one.ref, **more)

    def order(self) -> list[str]:
        return self.one.kinds

    def test_move_bypass_copy_remove(self) -> None:
        self.add("basics")
        eq = self.add("eq")
        self.on("move_processor", place=eq, to=0)
        self.assertEqual(self.order(), ["eq", "basics"])
        self.set(self.one, "chain/0/bypassed", "on")
        self.assertTrue(document_of(self.mix).tracks[0].chain[0].bypassed)
        self.on("copy_processors", to=[self.two.ref, self.three.ref])
        self.on("copy_processors", places=[0], to=[self.two.ref])
        self.assertEqual(self.two.kinds, ["eq", "basics", "eq"])
        self.on("remove_processor", place=0)
        self.assertEqual(self.order(), ["basics"])
        self.post("undo")
        self.assertEqual(self.order(), ["eq", "basics"])

    def test_starting_points_are_a_persons_own(self) -> None:
        self.add("resonator")
        self.post("flow:keep_chain", self.one.ref, name="Ring")
        point = self.user.starting_points.get()
        self.add("basics")
        self.post("flow:load_chain", self.one.ref, point=str(point.pk))
        self.assertEqual(self.order(), ["resonator"])

    def test_bands(self) -> None:
        eq = self.add("eq")
        self.on("add_band", place=eq, shape="low_cut")
        self.on("add_band", place=eq)
        self.set(self.one, "chain/0/bands/1/gain_db", "-4,5")
        self.set(self.one, "chain/0/bands/0/slope_db", "24")
        self.set(self.one, "chain/0/phase", "linear")
        chain = document_of(self.mix).tracks[0].chain
        self.assertEqual(
            (chain[0].bands[0].slope_db, chain[0].bands[1].gain_db, chain[0].phase),
            ("24", -4.5, "linear"),
        )
        page = self.client.get(self.url("flow:show") + f"?strip={self.one.ref}")
        self.assertContains(page, "3840")  # half of 160 ms
        self.assertContains(page, 'class="level" d="M')
        self.assertIn(
            "may be -24 to 24", self.said(self.set(self.one, "chain/0/bands/1/gain_db", "40"))
        )
        self.on("remove_band", place=eq, band=0)
        self.assertEqual(len(document_of(self.mix).tracks[0].chain[0].bands), 1)

    def test_delay_in_samples_and_centimetres(self) -> None:
        """343 m/s in air at 20 degrees Celsius (handbook value, from memory)."""
        self.add("basics")
        for text, wanted in (
            ("48 smp", 1.0),
            ("-96 samples", -2.0),
            ("34,3 cm", 1.0),
            ("3.43 m", 10.0),
            ("7 ms", 7.0),
        ):
            self.set(self.one, "chain/0/delay_ms", text)
            self.assertAlmostEqual(
                document_of(self.mix).tracks[0].chain[0].delay_ms, wanted, msg=text
            )
        self.set(self.one, "chain/0/delay_ms", "0,37 smp")
        page = self.client.get(self.url("flow:show"), {"strip": self.one.ref})
        self.assertContains(page, 'value="0.0077"')  # a part of a sample is shown

    def test_channels_are_turned_one_by_one(self) -> None:
        self.add("basics")
        for number in (2, 1, 2):
            self.edit(
                "flow",
                kind="toggle",
                strips=[self.one.ref],
                path="chain/0/inverted_channels",
                item=number,
            )
        self.assertEqual(document_of(self.mix).tracks[0].chain[0].inverted_channels, (1,))


class Width(WebTest):
    def test_the_correlation_is_shown_as_the_width_is_changed(self) -> None:
        """Equal-power unrelated mid and side: correlation (1 - w^2) / (1 + w^2) (derived)."""
        mid, side = noise(2, 2.0, 5, 0.05)
        track = self.bring_in("pair.wav", np.stack([mid + side, mid - side]))
        self.edit("flow", kind="add_processor", strip=track.ref, processor="basics")
        for width in (0.0, 0.5, 2.0):
            self.set(track, "chain/0/width", str(width))
            part = self.fragment("flow:panel", track.ref).context["chain"][0]
            self.assertAlmostEqual(part.pair[0], (1 - width**2) / (1 + width**2), delta=0.02)
        self.assertContains(self.fragment("flow:panel", track.ref), "−0.6")


class TheDemo(WebTest):
    @classmethod
    def setUpTestData(cls) -> None:
        bring_in_demo()

    def setUp(self) -> None:
        super().setUp()
        self.mix = Mix.objects.get(title="The Lamp at Skerrow")
        self.client.force_login(self.mix.members.get().user)

    def rules(self) -> list[str]:
        page = self.fragment("findings:show")
        return [row.finding.rule for row in page.context["rows"]]

    def test_every_fault_is_found_and_mended_with_one_press_and_comes_back_with_undo(self) -> None:
        survey_mix(mix_id=self.mix.pk)
        wanted = ["heard_twice", "opposed_polarity", "too_wide", "late", "bus_without_input"]
        self.assertEqual(self.rules(), wanted)
        for _ in wanted:
            page = self.fragment("findings:show")
            finding = page.context["rows"][0].finding
            answer = self.post(
                "findings:mend", rule=finding.rule, subject=finding.subject, other=finding.other
            )
            self.assertContains(answer, "Mended. ")
            survey_mix(mix_id=self.mix.pk)
        self.assertEqual(self.rules(), [])
        gone = self.post("findings:mend", rule="late", subject="buoy_far", other="buoy_near")
        self.assertIn("no longer found", self.said(gone))
        for _ in wanted:
            self.post("undo")
        survey_mix(mix_id=self.mix.pk)
        self.assertEqual(self.rules(), wanted)

    def test_nothing_is_found_in_the_clean_mix(self) -> None:
        self.mix = Mix.objects.get(title="Quiet Water")
        survey_mix(mix_id=self.mix.pk)
        self.assertEqual(self.rules(), [])

    def test_the_map_has_every_box_inside_and_none_on_another(self) -> None:
        for width, height in ((1240, 600), (700, 500)):
            drawing = draw(self.mix, width, height)
            self.assertEqual(
                sum(node.strip is not None for node in drawing.nodes), len(self.document().strips)
            )
            for node in drawing.nodes:
                self.assertTrue(node.x >= 0 and node.right <= width and node.y >= 0, node.name)
                self.assertLessEqual(node.y + node.height, drawing.height)
                for other in drawing.nodes:
                    apart = node.right <= other.x or other.right <= node.x
                    apart = (
                        apart or node.y + node.height <= other.y or other.y + other.height <= node.y
                    )
                    self.assertTrue(apart or node is other, f"{node.name} on {other.name}")
            feeds = {(r.start, r.end) for r in drawing.ribbons if r.sort == "main"}
            self.assertEqual(len(feeds), len(self.document().strips))

    def test_a_large_map_keeps_to_its_height(self) -> None:
        file = str(self.document().tracks[0].clips[0].file)
        oars = [
            {"kind": "add_track", "name": f"Oar {number}", "file": file} for number in range(50)
        ]
        self.edit("flow", kind="batch", commands=oars)
        drawing = draw(self.mix, 1240, 630)
        self.assertEqual(drawing.height, 630)
        tracks = [node for node in drawing.nodes if node.kind == "track"]
        self.assertEqual(len(tracks), 64)
        self.assertTrue(all(node.height >= 14.0 and node.y + node.height <= 630 for node in tracks))
        self.assertEqual(len({node.x for node in tracks}), 2)

    def test_a_survey_that_fails_is_kept_and_not_asked_for_again(self) -> None:
        self.mix = Mix.objects.get(title="Quiet Water")
        with (
            patch("metaphon.web.jobs.surveying.work_apart", side_effect=TooMuch),
            self.assertLogs(level="ERROR"),
        ):
            survey_mix(mix_id=self.mix.pk)
        self.assertNotContains(self.fragment("findings:show"), "listening")

    def prints_of(self, strip: StripOf) -> list[StripOf]:
        tracks = self.document().tracks
        return [StripOf(self.mix, one.id) for one in tracks if one.print_of == strip.ref]

    def print(self, *names: str, **options: str) -> Print:
        ids = ",".join(self.named(name).ref for name in names)
        self.assertEqual(self.post("flow:print", ids=ids, **options).status_code, 200)
        row = self.mix.prints.first()
        print_strips(print_id=row.pk)
        row.refresh_from_db()
        self.assertEqual((row.status, row.message), ("done", ""))
        return row

    def test_a_print_nulls_against_the_live_chain(self) -> None:
        """Below -90 dB, for mono, LCR, scene and a bus with a reverb.

        Whatever the chain's latency.
        """
        horn = self.named("Ship's horn")
        self.edit("flow", kind="add_processor", strip=horn.ref, processor="eq")
        self.edit("flow", kind="add_band", strip=horn.ref, place=0)
        self.set(horn, "chain/0/bands/0/gain_db", 9)
        self.set(horn, "chain/0/phase", "linear")
        live = levels(compile(document_of(self.mix)))
        names = ("Ship's horn", "Harmonium", "Sea", "Cave")
        row = self.print(*names, rest="on")
        self.assertGreater(row.speed_x_realtime, 1.0)
        printed = levels(compile(document_of(self.mix)))
        for name in names:
            original = self.named(name)
            copy = self.prints_of(original)[0]
            self.assertAlmostEqual(
                printed[copy.ref].rms_dbfs, live[original.ref].rms_dbfs, delta=0.1
            )
            self.assertNotIn(original.ref, printed)
        self.null("Ship's horn")
        self.null("Cave")

    def null(self, name: str) -> None:
        """The original woken beside its print turned upside down."""
        original = self.named(name)
        copy = self.prints_of(original)[0]
        document = document_of(self.mix)
        keep = {original.ref: {"resting": False}, copy.ref: {}}
        for strip in document.strips:
            if strip.id not in keep:
                keep[strip.id] = {"output": None} if strip.output == "programme" else {}
        changed = {
            part: tuple(s.model_copy(update=keep[s.id]) for s in getattr(document, part))
            for part in ("tracks", "buses")
        }
        together = document.model_copy(update=changed)

        def power(mix: Scene) -> float:
            plan = compile(mix)
            sums = [
                np.sum(np.square(blocks[0], dtype=float))
                for blocks in render(plan, outputs_of("0+5+0"))
            ]
            return float(sum(sums))

        loud = power(together)
        left = power(
            SetValue(strips=(copy.ref,), path="basics/polarity_inverted", value=True).apply(
                together
            )
        )
        self.assertLess(10 * np.log10(left / loud + 1e-30), -90.0)

    def test_a_print_keeps_what_the_original_had_and_can_be_gone_back_from(self) -> None:
        self.print("Gull", rest="on")
        gull = self.named("Gull")
        [first] = self.prints_of(gull)
        self.assertEqual((first.name, first.take, gull.resting), ("Gull print 1", 1, True))
        self.assertEqual(
            [StripOf(self.mix, send.bus).name for send in first.sends], ["Cave", "Shed"]
        )
        self.assertEqual((first.placement.mode, first.placement.elevation_deg), ("object", 25.0))
        self.assertEqual(
            set(lanes_of(self.document(), first.ref)),
            {"placement/azimuth_deg", "placement/elevation_deg"},
        )
        info = soundfile.info(first.recording.file.path)
        self.assertEqual((info.channels, info.samplerate, info.subtype), (1, RATE_HZ, "FLOAT"))
        self.edit("flow", kind="wake", strip=gull.ref)
        self.assertEqual([gull.resting, first.resting], [False, True])
        self.print("Gull", rest="on")
        self.assertEqual(sorted(one.take for one in self.prints_of(gull)), [1, 2])
        self.edit("flow", kind="wake", strip=first.ref)
        self.assertEqual([one for one in self.prints_of(gull) if not one.resting], [first])
        for _ in range(4):
            self.post("undo")
        self.assertFalse(gull.resting)

    def test_a_span_begins_on_its_sample(self) -> None:
        self.print("Gull", start_s="3.3", end_s="5.0")
        gull = self.named("Gull")
        [printed] = self.prints_of(gull)
        self.assertFalse(gull.resting)
        self.assertEqual(printed.clips[0].start_s, 3.3)
        self.assertEqual(printed.recording.frames, round(1.7 * RATE_HZ))
        self.assertIn(
            "before the start",
            self.said(self.post("flow:print", ids=gull.ref, start_s="5", end_s="4")),
        )

    def test_the_count_says_when_it_is_still_listening(self) -> None:
        page = self.fragment("findings:show")
        self.assertContains(page, "not listened to yet")
        survey_mix(mix_id=self.mix.pk)
        headers = {"HX-Request": "true"}
        answer = self.client.get(self.url("findings:show") + "?waited=1", headers=headers)
        self.assertContains(answer, 'aria-label="5 findings"')
        self.assertEqual(answer["HX-Trigger"], "survey-changed")


class Bad(FlowTest):
    def test_each_gets_one_sentence(self) -> None:
        posts = (
            ({"kind": "set_layout", "strip": self.one.ref, "layout": "0+5+0"}, "only a bus"),
            (
                {"kind": "set_layout", "strip": self.bus.ref, "layout": "binaural"},
                "A bus cannot be",
            ),
            (
                {"kind": "set", "strips": [self.one.ref], "path": "shade", "value": "red"},
                "no value shade",
            ),
            ({"kind": "route", "strips": [], "to": "programme"}, "nothing is chosen"),
            ({"kind": "route", "strips": [self.one.ref], "to": "nowhere"}, "no longer in the mix"),
            ({"kind": "copy_processors", "strip": self.one.ref, "to": []}, "Tick the tracks"),
            ({"kind": "rename", "strip": self.one.ref, "name": " "}, "needs a name"),
        )
        for command, words in posts:
            answer = self.edit("flow", **command)
            self.assertEqual(answer.status_code, 422, command)
            self.assertIn(words, self.said(answer))
        self.assertIn("Nothing is chosen", self.said(self.post("flow:print", ids="")))

    def test_a_print_of_nothing_fails_in_words_and_leaves_nothing(self) -> None:
        self.edit("flow", kind="remove_clip", strip=self.one.ref, place=0)
        self.post("flow:print", ids=self.one.ref)
        row = self.mix.prints.first()
        files = self.mix.audio_files.count()
        print_strips(print_id=row.pk)
        row.refresh_from_db()
        self.assertEqual((row.status, "no recording" in row.message), ("failed", True))
        self.assertEqual(self.mix.audio_files.count(), files)
