"""Commands: each is heard as it will be kept; sequences undo to the start.

The schema and the command line take them.
"""

import json
import pickle
from typing import Any

import numpy as np
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from metaphon.core.document.difference import Change, find_difference, inverted, with_changes
from metaphon.core.document.mix import Mix
from metaphon.core.document.targets import target_named
from metaphon.core.edits.command import apply
from metaphon.core.edits.registry import COMMANDS, apply_all, read, read_all, schema
from metaphon.core.engine.live import Player
from metaphon.core.engine.plan import compile
from metaphon.core.engine.render import Output
from metaphon.core.errors import InputError
from metaphon.core.listen.trials import Trials
from metaphon.core.process.registry import KINDS
from metaphon.core.spaces.shipped import SPACES
from tests.core.test_commands import command as run
from tests.sounds import FolderTest, noise, sine

_SHIPPED = SPACES[0].file("omnis", "near")
_LANE = {"strip": "gull", "path": "gain_db"}
_POINTS = [{"t_s": 0.0, "value": -6.0}, {"t_s": 0.2, "value": -20.0}, {"t_s": 0.4, "value": 0.0}]

# One of each kind that the interface can send, on the mix of `EditTest`; a new kind that has none
# here fails the test.
EXAMPLES: dict[str, list[dict[str, Any]]] = {
    "set": [
        {"strips": ["gull"], "path": "gain_db", "value": -7.5},
        {"strips": ["pair", "gull"], "path": "gain_db", "value": -3.0},
        {"strips": ["gull"], "path": "gain_db", "value": -12.0, "with_group": True},
        {"strips": ["gull"], "path": "muted", "value": True, "with_group": True},
        {"strips": ["gull"], "path": "soloed", "value": True},
        {"strips": ["room"], "path": "solo_safe", "value": True},
        {"strips": ["boat", "pair"], "path": "placement/azimuth_deg", "value": 120.0},
        {"strips": ["boat"], "path": "placement/y", "value": -0.5},
        {"strips": ["boat"], "path": "placement/extent_deg", "value": 60.0},
        {"strips": ["boat"], "path": "placement/snap", "value": True},
        {"strips": ["boat"], "path": "placement/travel", "value": True},
        {"strips": ["pair"], "path": "basics/width", "value": 0.4},
        {"strips": ["pair", "gull"], "path": "basics/polarity_inverted", "value": True},
        {"strips": ["gull"], "path": "clips/0/start_s", "value": 0.1},
        {"strips": ["gull"], "path": "clips/0/gain_db", "value": -9.0},
        {"strips": ["gull"], "path": "clips/0/fade_in_s", "value": 0.2},
        {"strips": ["gull"], "path": "sends/room/level_db", "value": -3.0},
        {"strips": ["gull"], "path": "sends/room/tap", "value": "pre"},
        {"strips": ["gull"], "path": "sends/room/azimuth_deg", "value": -60.0},
        {"strips": ["room"], "path": "chain/0/decay_s", "value": 1.2},
        {"strips": ["pair"], "path": "chain/0/bands/0/gain_db", "value": -9.0},
        {"strips": ["pair"], "path": "chain/0/bypassed", "value": True},
        {"strips": ["gull"], "path": "resting", "value": True},
    ],
    "toggle": [
        {"strips": ["gull"], "path": "placement/excluded", "item": "rear"},
        {"strips": ["pair"], "path": "chain/1/inverted_channels", "item": 2},
    ],
    "shift_gain": [{"strips": ["gull", "boat"], "by_db": -4.0}],
    "route": [{"strips": ["gull", "boat"], "to": "room"}, {"strips": ["pair"], "to": None}],
    "send": [{"strips": ["boat"], "bus": "room", "level_db": -6.0}],
    "remove_send": [{"strips": ["gull"], "bus": "room"}],
    "set_layout": [{"strip": "room", "layout": "0+5+0"}],
    "set_recording_layout": [{"strips": ["pair"], "layout": "M-030 M+030"}],
    "set_channel": [
        {"strip": "pair", "channel": 1, "labels": ["M+030", "M-030"], "label": "M-030"}
    ],
    "split_to_objects": [{"strip": "pair", "labels": ["M+030", "M-030"]}],
    "place_in_shape": [
        {"strips": ["gull", "boat"], "shape": shape} for shape in ("fan", "circle", "line")
    ],
    "gather_into_scene": [{"strips": ["gull", "boat"], "order": 2, "name": "Birds"}],
    "add_processor": [{"strip": "gull", "processor": kind} for kind in KINDS],
    "remove_processor": [{"strip": "pair", "place": 0}],
    "move_processor": [{"strip": "pair", "place": 0, "to": 1}],
    "copy_processors": [
        {"strip": "pair", "to": ["gull"]},
        {"strip": "pair", "places": [0], "to": ["boat"]},
        {"strip": "pair", "to": ["gull"], "replace": True},
    ],
    "set_chain": [
        {
            "strip": "pair",
            "chain": [
                {"kind": "basics", "width": 0.0},
                {"kind": "doubler", "original": True},
            ],
        }
    ],
    "add_band": [{"strip": "pair", "place": 0, "shape": "low_cut"}],
    "remove_band": [{"strip": "pair", "place": 0, "band": 0}],
    "place": [{"strips": ["gull"], "mode": "0+5+0"}, {"strips": ["boat"], "mode": "none"}],
    "move": [{"places": {"boat": [-110.0, 20.0]}}],
    "turn": [{"strips": ["gull", "boat"], "by_deg": 45.0}],
    "tilt": [{"strips": ["boat"], "pitch_deg": 30.0}],
    "spread": [{"strips": ["gull", "boat"], "factor": 2.0}],
    "mirror": [{"strips": ["gull", "boat"]}],
    "convert": [{"strips": ["gull", "boat"], "to": "cube"}],
    "use_kept_form": [{"strips": ["boat"]}],
    "drop_kept_form": [{"strip": "boat"}],
    "stand_still": [{"strip": "gull"}],
    "record_path": [
        {"strip": strip, "points": [[0.1, 0.0, 0.0], [0.2, 90.0, 20.0]]}
        for strip in ("gull", "boat")
    ],
    "draw_lane": [
        {**_LANE, "points": _POINTS},
        {**_LANE, "path": "placement/azimuth_deg", "points": _POINTS},
    ],
    "set_breakpoint": [
        {**_LANE, "path": "placement/azimuth_deg", "place": 1, "t_s": 0.25, "value": -90.0},
        {**_LANE, "t_s": 0.0, "value": -30.0},
    ],
    "remove_breakpoint": [{**_LANE, "path": "placement/azimuth_deg", "place": 1}],
    "move_phrase": [
        {**_LANE, "path": path, "value": 10.0, "start_s": 0.1, "end_s": 0.3, "ramp_s": 0.05}
        for path in ("gain_db", "placement/azimuth_deg")
    ],
    "trim_lane": [{**_LANE, "path": "placement/azimuth_deg", "start_s": 0.1, "end_s": 0.3}],
    "stretch_lane": [{**_LANE, "path": "placement/azimuth_deg", "factor": 0.5}],
    "scale_lane": [{**_LANE, "path": "placement/azimuth_deg", "factor": 0.5, "about": 0.0}],
    "thin_lane": [{**_LANE, "path": "placement/azimuth_deg", "within": 90.0}],
    "copy_lane": [{**_LANE, "path": "placement/azimuth_deg", "to": ["boat"]}],
    "remove_lane": [{**_LANE, "path": "placement/azimuth_deg"}],
    "bring_lanes": [{"lanes": [{"target": "boat/gain_db", "points": _POINTS}]}],
    "restore": [{"after": {"kind": "mirror", "strips": ["boat"]}}],
    "rename": [{"strip": "gull", "name": "Far gull"}],
    "note": [{"strip": "gull", "note": "Wind until the bell; use the other take there."}],
    "rename_mix": [{"title": "Harbour"}],
    "set_fold_down": [{"path": "height_db", "value": "-6 dB"}],
    "reset_fold_down": [{}],
    "choose_delivery": [{"delivery": {"title": "Eight objects", "most_objects": 8}}],
    "add_track": [{"name": "Gull", "file": "one.wav", "start_s": 0.1}],
    "add_clip": [{"strip": "gull", "file": "one.wav", "start_s": 0.3}],
    "set_clips": [
        {"strip": "gull", "clips": [{"file": "one.wav", "start_s": 0.3, "in_s": 0.1}]},
    ],
    "remove_clip": [{"strip": "gull", "place": 0}],
    "move_clip": [{"strip": "gull", "place": 0, "start_s": 0.2}],
    "copy_clip": [{"strip": "gull", "place": 0, "start_s": 0.3}],
    "trim_clip": [{"strip": "gull", "place": 0, "begins_s": 0.1, "ends_s": 0.3}],
    "split_clip": [{"strip": "gull", "place": 0, "at_s": 0.25}],
    "add_bus": [
        {"name": "Hall", "reverb": True},
        {"name": "Pier", "layout": "0+2+0", "strips": ["gull", "boat"]},
        {"name": "Shed", "file": "two.wav"},
    ],
    "choose_response": [{"strip": "shed", "place": 0, "file": "two.wav"}],
    "link_reverb": [
        {"strip": "shed", "place": 0, "to": "hut"},
        {"strip": "shed", "place": 0, "to": None},
    ],
    "set_start_time": [{"start": "10:00:00:00", "frame_rate": "24"}],
    "set_tempo": [{"value": "90 BPM"}],
    "remove_strip": [{"strip": "room"}, {"strip": "gull"}],
    "move_strip": [{"strip": "boat", "to": 0}],
    "group": [{"strips": ["pair", "boat"], "name": "Boats"}],
    "group_moves": [{"group": "birds", "moves": "moves_gain", "value": False}],
    "add_print": [{"strip": "gull", "file": "one.wav"}],
    "add_double": [{"strip": "pair", "place": 2, "file": "one.wav", "start_s": 0.1}],
    "wake": [{"strip": "asleep"}],
    "add_target": [{"name": "scene1"}],
    "remove_target": [{"name": "binaural"}],
    "add_alternative": [
        {"name": "Norsk", "language": "nb"},
        {"name": "Louder", "like": "far"},
    ],
    "remove_alternative": [{"alternative": "far"}],
    "set_alternative": [
        {"alternative": "far", "path": "name", "value": "Farther"},
        {"path": "language", "value": "en"},
    ],
    "set_variation": [
        {"alternative": "far", "strip": "gull", "path": "heard", "value": "silent"},
        {"alternative": "far", "strip": "pair", "path": "gain_db", "value": "-6 dB"},
    ],
    "add_varied": [{"strip": "boat"}],
    "remove_varied": [{"strip": "gull"}],
    "set_varied": [
        {"strip": "gull", "path": "least_db", "value": "-12"},
        {"strip": "gull", "path": "switched", "value": True},
        {"strip": "gull", "path": "choice", "value": "Birds"},
    ],
    "add_marker": [{"at_s": 0.1, "name": "Bell"}],
    "set_marker": [
        {"marker": "lamp", "path": "at_s", "value": "0.4 s"},
        {"marker": "lamp", "path": "name", "value": "Lamp is lit"},
    ],
    "remove_marker": [{"marker": "lamp"}],
    "batch": [
        {
            "commands": [
                {"kind": "mirror", "strips": ["boat"]},
                {"kind": "place", "strips": ["gull"], "mode": "none"},
            ]
        }
    ],
}
ALL = [{"kind": kind, **one} for kind, found in EXAMPLES.items() for one in found]


class EditTest(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("one.wav", sine(200.0, 0.6, -18.0) + noise(1, 0.6, 3, 0.02)[0])
        self.write("two.wav", noise(2, 0.6, 5, 0.05))
        away = {"mode": "object", "azimuth_deg": 30.0, "elevation_deg": 10.0}
        points = [
            {"t_s": 0.0, "value": 30.0},
            {"t_s": 0.3, "value": 120.0},
            {"t_s": 0.5, "value": 170.0},
        ]
        self.start: Mix = self.mix(
            [
                {
                    "id": "gull",
                    "name": "Gull",
                    "sound": "one.wav",
                    "group": "birds",
                    "gain_db": -3.0,
                    "placement": away,
                    "sends": [{"bus": "room"}, {"bus": "shed"}],
                },
                {
                    "id": "boat",
                    "name": "Boat",
                    "sound": "one.wav",
                    "group": "birds",
                    "placement": {**away, "azimuth_deg": -40.0},
                },
                {
                    "id": "pair",
                    "name": "Pair",
                    "sound": "two.wav",
                    "placement": {"mode": "bed", "layout": "0+2+0"},
                    "chain": [
                        {"kind": "eq", "bands": [{"shape": "bell", "gain_db": 6.0}]},
                        {"kind": "basics"},
                        {"kind": "doubler"},
                    ],
                },
                {"id": "asleep", "name": "Asleep", "sound": "one.wav", "resting": True},
            ],
            buses=[
                {
                    "id": "room",
                    "name": "Room",
                    "chain": [{"kind": "network_reverb", "decay_s": 0.3, "predelay_note": "1/64"}],
                },
                {"id": "shed", "name": "Shed", "chain": [{"kind": "convolution_reverb"}]},
                {
                    "id": "hut",
                    "name": "Hut",
                    "chain": [{"kind": "convolution_reverb", "file": str(_SHIPPED)}],
                },
            ],
            groups=[{"id": "birds", "name": "Birds"}],
            automation=[{"target": "gull/placement/azimuth_deg", "points": points}],
            targets=["0+2+0", "0+5+0", "binaural"],
            markers=[{"id": "lamp", "at_s": 0.2, "name": "Lamp"}],
            alternatives={
                "varied": [{"strip": "gull"}],
                "programmes": [
                    {
                        "id": "far",
                        "name": "Far",
                        "variations": [{"strip": "gull", "gain_db": -9.0}],
                    }
                ],
            },
        )

    def command(self, data: dict[str, Any]) -> dict[str, Any]:
        """A command whose files lie in the test's folder; `after` gives the mix to restore."""
        if "after" in data:
            mix = apply(self.start, read(data["after"])).model_dump_json()
            return {"kind": data["kind"], "mix": json.loads(mix)}
        if "clips" in data:
            own = [{**clip, "file": str(self.folder / clip["file"])} for clip in data["clips"]]
            return {**data, "clips": own}
        return {**data, **({"file": str(self.folder / data["file"])} if "file" in data else {})}


class Previews(EditTest):
    def test_there_is_an_example_of_every_command(self) -> None:
        self.assertEqual(set(EXAMPLES), set(COMMANDS))

    def test_what_is_heard_under_the_hand_is_what_is_kept(self) -> None:
        """The sound of a player that is given the trial is that of one that is given the edit,
        sample for sample.
        """
        output = Output(target_named("0+5+0"))
        untouched = self.heard([self.start], output)
        for data in ALL:
            data = self.command(data)
            with self.subTest(data):
                trials = Trials()
                trials.keep(self.start, [])
                tried = trials.try_out(data, "hand", None)
                assert tried
                kept = apply(self.start, read(data))
                again = trials.keep(
                    kept, []
                )  # the hand still holds it as the mix that holds it already arrives
                sound = self.heard([self.start, tried], output)
                np.testing.assert_array_equal(sound, self.heard([self.start, kept], output))
                if data["kind"] in _IDEMPOTENT:
                    self.assertEqual(again, kept)
                if data["kind"] not in _SILENT and data not in _UNHEARD:
                    self.assertGreater(
                        np.abs(sound - untouched[:, : sound.shape[1]]).max(), 1e-5, data
                    )

    def heard(self, mixes: list[Mix], output: Output) -> np.ndarray:
        """What a player gives that is handed one mix after the other while it plays."""
        player = Player(compile(mixes[0]), [output])
        self.addCleanup(player.close)
        blocks = [player.take(2048)[1][output]]
        for mix in mixes[1:]:
            player.change(compile(mix))
        blocks += [player.take(2048)[1][output] for _ in range(11)]
        return np.concatenate(blocks, axis=1)

    def test_a_trial_ends_with_its_edit_and_not_before(self) -> None:
        trials = Trials()
        trials.keep(self.start, [])
        quiet = {"kind": "set", "strips": ["boat"], "path": "gain_db", "value": -20.0}
        tried = trials.try_out(quiet, "boat gain_db", "e1")
        assert tried and tried.find_strip("boat")
        self.assertEqual(tried.tracks[1].gain_db, -20.0)
        other = apply(self.start, read({"kind": "rename", "strip": "gull", "name": "Kittiwake"}))
        self.assertEqual(
            trials.keep(other, ["e0"]).tracks[1].gain_db, -20.0
        )  # somebody else was quicker
        self.assertEqual(trials.keep(self.start, ["e1"]), self.start)
        trials.try_out(quiet, "boat gain_db", None)
        self.assertEqual(trials.release("boat gain_db"), self.start)
        refused = trials.try_out({**quiet, "value": 99.0}, "boat gain_db", None)
        self.assertEqual(refused, self.start)


_IDEMPOTENT = {
    "set",
    "route",
    "send",
    "place",
    "move",
    "record_path",
    "draw_lane",
    "set_layout",
    "rename",
}
# what changes names, order or settings that sound only later, and what rests or wakes nothing that
# is heard
_SILENT = {
    "split_clip",
    "rename",
    "note",
    "rename_mix",
    "move_strip",
    "group",
    "group_moves",
    "add_target",
    "remove_target",
    "drop_kept_form",
    "add_processor",
    "add_bus",
    "set_start_time",
    "copy_lane",
    "move_processor",
    "add_double",
    "add_print",
    "reset_fold_down",
    "choose_delivery",
    "add_alternative",
    "remove_alternative",
    "set_alternative",
    "set_variation",
    "add_varied",
    "remove_varied",
    "set_varied",
    "add_marker",
    "set_marker",
    "remove_marker",
}
_UNHEARD = [
    {"kind": "link_reverb", "strip": "shed", "place": 0, "to": None},
    {"kind": "set", "strips": ["room"], "path": "solo_safe", "value": True},
]


class Sequences(EditTest):
    @settings(
        max_examples=40, deadline=None, suppress_health_check=[HealthCheck.differing_executors]
    )
    @given(st.lists(st.sampled_from(range(len(ALL))), min_size=1, max_size=12))
    def test_any_sequence_leaves_a_mix_that_hangs_together(self, chosen: list[int]) -> None:
        """What each command leaves can be written as a document and read again, the same."""
        mix = self.start
        elsewhere = pickle.loads(pickle.dumps(mix))
        for number in chosen:
            try:
                before, mix = mix, apply(mix, read(self.command(ALL[number])))
            except InputError:
                continue  # as where what it is about was taken out before
            self.assertEqual(Mix.model_validate_json(mix.model_dump_json()), mix)
            changes = find_difference(before, mix)
            told = [Change.of(json.loads(json.dumps(change.plain()))) for change in changes]
            elsewhere = with_changes(elsewhere, told)
            self.assertEqual(elsewhere, mix)
            self.assertEqual(bool(changes), before != mix)
            back = with_changes(mix, inverted(changes))
            self.assertEqual(back, before)

    def test_what_a_command_does_not_touch_is_the_same_object(self) -> None:
        after = apply(
            self.start, read({"kind": "set", "strips": ["gull"], "path": "gain_db", "value": -7.5})
        )
        self.assertIsNot(after.tracks[0], self.start.tracks[0])
        self.assertTrue(
            all(
                one is other
                for one, other in zip(after.tracks[1:], self.start.tracks[1:], strict=True)
            )
        )
        self.assertIs(after.automation, self.start.automation)
        self.assertEqual(
            find_difference(self.start, after), [Change(("tracks", "gull", "gain_db"), -3.0, -7.5)]
        )


class Sentences(EditTest):
    def test_what_is_wrong_with_a_command_is_one_sentence(self) -> None:
        for data, words in (
            ({}, "There is no command"),
            ({"kind": "turn", "strips": ["gull"]}, "By is missing; give it."),
            ({"kind": "turn", "strips": ["gull"], "by_deg": "far"}, "By is a number, not 'far'."),
            (
                {"kind": "turn", "strips": ["gull"], "by_deg": 400},
                "By may be -180 to 180; 400 is outside.",
            ),
            ({"kind": "mirror", "strips": []}, "nothing is chosen"),
            ({"kind": "mirror", "up": 1, "strips": ["a"]}, "up is not known"),
            ({"kind": "convert", "strips": ["gull"], "to": "moon"}, "choose one of sphere, cube"),
        ):
            with self.assertRaisesRegex(InputError, words):
                read(data)
        for data, words in (
            ({"kind": "remove_processor", "strip": "pair", "place": 9}, "no longer there"),
            ({"kind": "add_band", "strip": "pair", "place": 1}, "Basics has no bands"),
            ({"kind": "set", "strips": ["gull"], "path": "id", "value": "x"}, "no value id"),
            (
                {"kind": "set", "strips": ["gull"], "path": "sends/nowhere/tap", "value": "pre"},
                "no longer there",
            ),
            ({"kind": "send", "strips": ["room"], "bus": "gull"}, "bus is no longer"),
            ({"kind": "add_bus", "layout": "9+9+9"}, "no target"),
        ):
            with self.assertRaisesRegex(InputError, words):
                apply(self.start, read(data))

    def test_a_loop_is_refused_by_name(self) -> None:
        mix = apply(self.start, read({"kind": "add_bus", "name": "Hall"}))
        mix = apply(mix, read({"kind": "route", "strips": ["room"], "to": "hall"}))
        with self.assertRaisesRegex(InputError, "runs in a loop"):
            apply(mix, read({"kind": "send", "strips": ["hall"], "bus": "room"}))

    def test_a_list_names_the_command_that_is_wrong(self) -> None:
        good = {"kind": "mirror", "strips": ["boat"]}
        with self.assertRaisesRegex(InputError, "Command 2: There is no command 'fly'"):
            read_all([good, {"kind": "fly"}])
        with self.assertRaisesRegex(InputError, "Command 2: This track is no longer"):
            apply_all(self.start, read_all([good, {"kind": "mirror", "strips": ["owl"]}]))

    def test_the_history_says_what_was_done(self) -> None:
        for data, words in (
            (
                {"kind": "set", "strips": ["gull"], "path": "gain_db", "value": "-6,5 dB"},
                "Gull: gain -6.5 dB",
            ),
            (
                {
                    "kind": "set",
                    "strips": ["gull"],
                    "path": "muted",
                    "value": True,
                    "with_group": True,
                },
                "Muted Gull and 1 more",
            ),
            (
                {"kind": "set", "strips": ["pair"], "path": "chain/0/bypassed", "value": True},
                "Bypassed Equaliser on Pair",
            ),
            (
                {"kind": "set", "strips": ["room"], "path": "chain/0/decay_s", "value": 2},
                "Room, network reverb: decay 2 s",
            ),
            ({"kind": "route", "strips": ["gull"], "to": "room"}, "Gull feeds Room"),
            ({"kind": "move", "places": {"boat": [10, 5]}}, "Boat at 10°, 5°"),
            ({"kind": "remove_strip", "strip": "room"}, "Removed Room"),
        ):
            self.assertEqual(read(data).describe(self.start), words)
        for data in ALL:
            self.assertTrue(read(self.command(data)).describe(self.start), data)


class FromOutside(EditTest):
    def test_the_command_line_edits_a_document(self) -> None:
        document = self.folder / "a.mix.json"
        plain = {"id": "a", "name": "A", "clips": [{"file": "one.wav"}]}
        document.write_text(json.dumps({"format": "metaphon-mix", "title": "A", "tracks": [plain]}))
        commands = self.folder / "commands.json"
        commands.write_text(
            json.dumps(
                [
                    {"kind": "set", "strips": ["a"], "path": "gain_db", "value": "-6 dB"},
                    {"kind": "add_bus", "name": "Hall", "reverb": True},
                    {"kind": "add_track", "name": "Second", "file": "two.wav"},
                ]
            )
        )
        out = self.folder / "b.mix.json"
        status, answer, _ = run("edit", document, commands, "--out", out)
        self.assertEqual((status, len(answer["edits"])), (0, 3))
        made = json.loads(out.read_text())
        self.assertEqual((made["tracks"][0]["gain_db"], made["buses"][0]["id"]), (-6.0, "hall"))
        self.assertEqual(made["tracks"][1]["clips"][0]["file"], "two.wav")
        commands.write_text('[{"kind": "mirror", "strips": ["b"]}]')
        status, _, said = run("edit", document, commands, "--out", self.folder / "c.mix.json")
        self.assertEqual(
            (status, said.strip()), (2, "Command 1: This track is no longer in the mix.")
        )
        self.assertFalse((self.folder / "c.mix.json").exists())

    def test_the_schema_knows_every_command(self) -> None:
        _, printed, _ = run("schema", "--commands")
        self.assertEqual(
            printed, json.loads(json.dumps(schema())), "write it anew: -m metaphon.core.schemas"
        )
        kinds = {
            model["properties"]["kind"]["const"]
            for model in printed["$defs"].values()
            if "const" in model.get("properties", {}).get("kind", {})
        }
        self.assertLessEqual(set(COMMANDS), kinds)
