"""Reverb: tails told and laid over each other, and the matrix of sends."""

import json
import re
from typing import Any

import numpy as np
from django.core.files.uploadedfile import SimpleUploadedFile
from django.http import QueryDict
from django.test import Client
from django.urls import reverse

from metaphon.core.document.tempo import in_time
from metaphon.core.engine.plan import compile
from metaphon.web.jobs.models import SpaceSimulation
from metaphon.web.jobs.tasks import simulate_space
from metaphon.web.mixes.models import Member, SpaceResponse, Strip
from metaphon.web.reverb import sends
from metaphon.web.reverb.returns import places_for
from tests.sounds import noise
from tests.web.base import WebTest, make_user, recording


class Reverb(WebTest):
    def setUp(self) -> None:
        super().setUp()
        for name in ("gull", "boat"):
            self.bring_in(f"{name}.wav", noise(1, 1.0))

    def shown(self, **asked: str) -> str:
        page = self.client.get(self.url("reverb:show"), asked)
        self.assertEqual(page.status_code, 200)
        return re.sub(r"\s+", " ", re.sub(r"<[^>]+>", " ", page.content.decode()))

    def with_spaces(self) -> None:
        for name, decay_s in (("Hall", 3.0), ("Cell", 0.5)):
            self.edit("flow", kind="add_bus", name=name, reverb=True)
            for path, value in (("decay_s", decay_s), ("treble_decay", 1.0)):
                strips = [name.lower()]
                self.edit("flow", kind="set", strips=strips, path=f"chain/0/{path}", value=value)

    def test_a_tail_is_told_by_octave_and_another_laid_over_it(self) -> None:
        self.assertIn("No space yet", self.shown())
        self.with_spaces()
        said = self.shown(strip="hall", other="cell", picture="measures")
        row = re.search(r"T30, s ([0-9. ]+) C50", said)
        assert row, said
        figures = [float(one) for one in row[1].split()]
        self.assertEqual(len(figures), 16)  # the whole and seven octaves of each
        for told, decay_s in ((figures[:8], 3.0), (figures[8:], 0.5)):
            self.assertAlmostEqual(sum(told) / 8, decay_s, delta=0.06 * decay_s)
        self.assertNotIn("nan", said)
        for strip in ("hall", "cell"):
            self.edit("flow", kind="set", strips=[strip], path="resting", value=True)
        self.assertIn("No space yet", self.shown())

    def test_what_a_note_decides_is_not_offered_in_milliseconds(self) -> None:
        def shown() -> str:
            page = self.client.get(self.url("reverb:show"), {"strip": "hall"})
            return str(page.content.decode())

        self.with_spaces()
        self.assertIn('chain/0/predelay_ms"', shown())
        path = "chain/0/predelay_note"
        for note, offered in (("1/16", False), ("free", True)):
            self.edit("flow", kind="set", strips=["hall"], path=path, value=note)
            self.assertEqual('chain/0/predelay_ms"' in shown(), offered)
            self.assertEqual("by “Predelay note”" in shown(), not offered)

    def test_sends_are_made_moved_taken_elsewhere_and_taken_away(self) -> None:
        self.assertIn("No space yet", self.shown(view="sends"))
        self.with_spaces()
        self.assertIn("Hall", self.shown(view="sends"))
        self.edit("reverb", kind="send", strips=["gull", "boat"], bus="hall", level_db=-9.0)
        self.edit("reverb", kind="set", strips=["gull"], path="sends/hall/tap", value="pre")

        def sent(strip: str) -> list[tuple[str, float, str]]:
            found = self.document().find_strip(strip)
            assert found
            return [(send.bus, send.level_db, send.tap) for send in found.sends]

        self.assertEqual(sent("gull"), [("hall", -9.0, "pre")])
        self.assertEqual(sent("boat"), [("hall", -9.0, "post")])
        self.edit("reverb", kind="remove_send", strips=["gull"], bus="hall")
        self.assertEqual(sent("gull"), [])

    def test_the_balance_of_an_object_follows_its_distance_when_asked(self) -> None:
        """Further away the sound falls and what it sends does not; pressed again neither does."""
        self.with_spaces()
        self.edit("flow", kind="place", strips=["gull"], mode="object")
        self.assertIn("More room afar", self.shown(view="sends"))
        for wanted in (6.0, 0.0):
            shown = sends.shown(self.mix, self.document(), QueryDict(), self.user)
            balance = next(row[2] for row in shown["rows"] if row[0].id == "gull")
            self.edit("reverb", **balance["command"])
            place = self.document().find_strip("gull").placement
            self.assertEqual((place.level_db_per_doubling, place.sends_too), (wanted, False))


class Responses(WebTest):
    """Spaces by response: chosen, brought in, simulated, shared, given out and let go."""

    def setUp(self) -> None:
        super().setUp()
        self.bring_in("gull.wav", noise(1, 1.0))

    def make(self, file: str = "shipped/boat_shed_omnis_middle.flac") -> Any:
        return self.edit("reverb", kind="add_bus", name="Shed", layout="0+2+0", file=file)

    def page(self, **asked: str) -> str:
        answer = self.client.get(self.url("reverb:show"), asked)
        self.assertEqual(answer.status_code, 200)
        return answer.content.decode()

    def file(self) -> str:
        """What the row of the reverb says."""
        [row] = Strip.objects.filter(values__chain__0__kind="convolution_reverb")
        return str(row.values["chain"][0]["file"])

    def test_a_shipped_space_its_microphone_and_its_distance_are_one_press_each(self) -> None:
        self.make()
        page = self.page(strip="shed")
        self.assertIn("Boat shed, spaced omnis, middle", page)
        for file in (
            "boat_shed_ambisonic_middle",
            "boat_shed_omnis_far",
            "ice_cellar_omnis_middle",
        ):
            self.assertIn(f"shipped/{file}.flac", page)
            self.edit(
                "reverb",
                kind="choose_response",
                strip="shed",
                place=0,
                file=f"shipped/{file}.flac",
            )
            self.assertEqual(self.file(), f"shipped/{file}.flac")
            chain = self.document().buses[0].chain
            self.assertTrue(chain[0].file.is_file())
        undone = self.client.post(self.url("undo"))
        self.assertEqual(undone.status_code, 200)
        self.assertEqual(self.file(), "shipped/boat_shed_omnis_far.flac")

    def test_a_file_of_this_machine_that_is_no_response_kept_here_is_refused(self) -> None:
        """Neither a system's file nor a recording of a mix can be put in by a command."""
        audio = self.mix.audio_files.first()
        assert audio
        for file in ("/etc/hostname", "../../secret.wav", str(audio.file.path), audio.file.name):
            answer = self.make(file)
            self.assertEqual(answer.status_code, 422, file)
            self.assertIn("is not kept here", answer["HX-Trigger"])
            chain = [{"kind": "convolution_reverb", "file": file}]
            answer = self.edit("flow", kind="set_chain", strip="gull", chain=chain)
            self.assertEqual(answer.status_code, 422, file)
        self.make()
        answer = self.edit(
            "flow", kind="set", strips=["shed"], path="chain/0/file", value=str(audio.file.path)
        )
        self.assertEqual(answer.status_code, 422)

    def test_what_somebody_brings_in_can_be_used_shared_and_let_go(self) -> None:
        good = SimpleUploadedFile("Long hall.wav", recording(noise(2, 0.5)))
        self.assertIn("Long hall", self.post("reverb:bring", file=good).content.decode())
        row = SpaceResponse.objects.get()
        self.assertEqual((row.channels, row.seconds, row.shared), (2, 0.5, False))
        self.make(row.stored_as)
        self.assertIn("Long hall", self.page(strip="shed"))
        refused = self.post("reverb:forget", row.pk)
        self.assertIn("Shed of Pier uses this response", refused["HX-Trigger"])
        self.post("reverb:share", row.pk)
        other, theirs = Client(), make_user("bo")
        other.force_login(theirs)
        Member.objects.create(mix=self.mix, user=theirs, role="editor")
        shown = other.get(self.url("reverb:show"), {"view": "build"}).content.decode()
        self.assertIn("Long hall", shown)
        self.assertEqual(other.post(self.url("reverb:forget", row.pk)).status_code, 404)
        self.edit("flow", kind="remove_strip", strip="shed")
        self.post("reverb:forget", row.pk)
        self.assertEqual(SpaceResponse.objects.count(), 0)

    def test_what_is_no_response_is_refused_in_a_sentence(self) -> None:
        for name, data, words in (
            ("notes.wav", b"no sound at all", "no sound file"),
            ("silent.wav", recording(np.zeros((2, 480))), "is silent"),
            ("thirteen.wav", recording(noise(13, 0.1)), "13 channels"),
            ("hour.wav", recording(noise(1, 21.0)), "20 s at most"),
        ):
            answer = self.post("reverb:bring", file=SimpleUploadedFile(name, data))
            self.assertEqual(answer.status_code, 422, name)
            self.assertIn(words, answer["HX-Trigger"])
        self.assertEqual(SpaceResponse.objects.count(), 0)

    def test_a_space_is_simulated_and_given_out(self) -> None:
        fields = {
            "room-title": "Tool store",
            "room-shape": "box",
            "room-width_m": "3",
            "room-depth_m": "4,5",
            "room-height_m": "2.5",
            "room-floor": "carpet",
            "room-walls": "curtains",
            "room-ceiling": "absorber",
            "source-from_front_m": "1",
            "microphone0-title": "Pair",
            "microphone0-distance_m": "1.5",
            "microphone1-title": "Sphere",
            "microphone1-pattern": "ambisonic",
            "microphone1-distance_m": "2",
        }
        plan = self.client.get(self.url("reverb:plan"), fields, headers={"HX-Request": "true"})
        self.assertIn("Tool store", plan.content.decode())
        wrong = self.post("reverb:simulate", **{**fields, "microphone0-distance_m": "9"})
        self.assertIn("The microphone Pair stands outside the room", wrong["HX-Trigger"])
        self.post("reverb:simulate", **fields)
        row = SpaceSimulation.objects.get()
        simulate_space(simulation_id=row.pk)
        row.refresh_from_db()
        self.assertEqual(row.status, "done", row.message)
        made = list(SpaceResponse.objects.order_by("pk"))
        self.assertEqual([one.channels for one in made], [2, 4])
        self.assertEqual(str(made[1]), "Tool store, Sphere, 2 m")
        for form, magic in (("wav", b"RIFF"), ("sofa", b"\x89HDF")):
            answer = self.client.get(self.url("reverb:give", made[0].pk, form))
            self.assertEqual(b"".join(answer.streaming_content)[:4], magic)
            self.assertIn(f"Tool_store_Pair_1.5_m.{form}", answer["Content-Disposition"])
        again = self.page(view="build", response=str(made[1].pk))
        self.assertIn('value="Tool store"', again)
        self.make(made[1].stored_as)
        self.assertIn("Sphere, 2 m", self.page(strip="shed"))

    def test_a_simulation_that_is_cancelled_leaves_nothing(self) -> None:
        self.post("reverb:simulate")
        row = SpaceSimulation.objects.get()
        self.post("reverb:cancel", row.pk)
        simulate_space(simulation_id=row.pk)
        row.refresh_from_db()
        self.assertEqual((row.status, SpaceResponse.objects.count()), ("cancelled", 0))

    def test_a_copy_of_a_mix_has_the_same_spaces(self) -> None:
        self.make()
        answer = self.client.post(reverse("duplicate_mix", args=[self.mix.pk]))
        self.assertIn(answer.status_code, (200, 302))
        rows = Strip.objects.filter(values__chain__0__kind="convolution_reverb")
        self.assertEqual(
            [row.values["chain"][0]["file"] for row in rows],
            ["shipped/boat_shed_omnis_middle.flac"] * 2,
        )


class Returns(WebTest):
    def test_a_return_is_placed_as_bed_objects_or_scene(self) -> None:
        """Each place as its button's command makes it; the one it stands at is pressed."""
        self.bring_in("gull.wav", noise(1, 1.0))
        self.edit("reverb", kind="add_bus", name="Hall", layout="0+2+0", reverb=True)
        self.edit("reverb", kind="send", strips=["gull"], bus="hall", level_db=0.0)
        for place in places_for(self.document().buses[0]):
            with self.subTest(place["title"]):
                answer = self.edit("reverb", **place["command"])
                self.assertEqual(answer.status_code, 200, answer.content.decode()[:300])
                bus = self.document().buses[0]
                chosen = [one["title"] for one in places_for(bus) if one["chosen"]]
                self.assertEqual(chosen, [place["title"]])
                compile(self.document())
                for page in ("flow", "coherence", "reverb", "field", "listen", "handover"):
                    shown = self.client.get(self.url(f"{page}:show"), {"strip": "hall"})
                    self.assertEqual(shown.status_code, 200, page)
                self.assertEqual(self.fragment("flow:map").status_code, 200)
        self.assertEqual(bus.placement.mode, "scene")

    def test_a_tempo_sets_what_is_said_as_a_note(self) -> None:
        self.edit("reverb", kind="add_bus", name="Hall", layout="0+2+0", reverb=True)
        self.edit("reverb", kind="set", strips=["hall"], path="chain/0/predelay_note", value="1/16")
        self.edit("reverb", kind="set_tempo", value="100")
        document = self.document()
        self.assertEqual(document.tempo_bpm, 100.0)
        self.assertEqual(in_time(document).buses[0].chain[0].predelay_ms, 150.0)
        self.assertEqual(self.edit("reverb", kind="set_tempo", value="fast").status_code, 422)

    def test_the_line_of_a_decay_that_is_tried(self) -> None:
        self.edit("reverb", kind="add_bus", name="Hall", layout="0+2+0", reverb=True)
        command = {"kind": "set", "strips": ["hall"], "path": "chain/0/decay_s", "value": 5.0}
        lines = [
            self.client.get(
                self.url("reverb:decay"),
                {"strip": "hall", "place": "0", "command": json.dumps(one)},
                headers={"HX-Request": "true"},
            ).content.decode()
            for one in (command, {**command, "value": 1.0})
        ]
        heights = [float(line.split("L")[40].split()[1]) for line in lines]
        self.assertLess(heights[0], heights[1])  # longer is higher up
        self.assertEqual(self.document().buses[0].chain[0].decay_s, 2.0)
