"""Automation lanes.

Curves, angles that go round, what is done to lanes, tables and block formats.
"""

import unittest
from typing import Any

import numpy as np

from metaphon.core.adm import channel_text
from metaphon.core.document import lanes
from metaphon.core.document.breakpoints import Breakpoint, Breakpoints
from metaphon.core.document.lanes import range_of
from metaphon.core.document.mix import Automation
from metaphon.core.document.thinning import thinned_lane
from metaphon.core.edits.registry import read
from metaphon.core.errors import InputError
from metaphon.core.files import lane_table
from tests.sounds import FolderTest, noise


def lane(target: str, *points: tuple[Any, ...]) -> Automation:
    return Automation(
        target=target, points=Breakpoints.of(Breakpoint(t, v, *c) for t, v, *c in points)
    )


def edited(one: Automation, kind: str, mix: Any, **more: Any) -> Automation:
    """A lane of a mix put through a command."""
    strip, path = one.target.split("/", 1)
    after = read({"kind": kind, "strip": strip, "path": path, **more}).apply(
        lanes.with_lane(mix, one)
    )
    return lanes.lane_of(after, one.target)


def at(one: Automation, *times: float) -> list[float]:
    turns = lanes.is_turning(one.target)
    return [round(float(v), 6) for v in lanes.values_at(one.points, np.array(times), turns)]


class Curves(unittest.TestCase):
    def test_line_hold_and_smooth(self) -> None:
        one = lane("a/gain_db", (1.0, 0.0), (2.0, 10.0, "hold"), (3.0, 20.0, "smooth"), (5.0, 0.0))
        self.assertEqual(
            at(one, 0.0, 1.5, 2.0, 2.999, 3.0, 4.0, 9.0), [0.0, 5.0, 10.0, 10.0, 20.0, 10.0, 0.0]
        )
        quarter = 20.0 * (1.0 - (0.25**2 * (3 - 0.5)))  # eased in and out: 3t^2 - 2t^3
        self.assertAlmostEqual(at(one, 3.5)[0], quarter)

    def test_angles_go_the_shorter_way(self) -> None:
        one = lane("a/placement/azimuth_deg", (0.0, 170.0), (1.0, -170.0), (2.0, 20.0))
        self.assertEqual(at(one, 0.5), [180.0])
        self.assertAlmostEqual(at(one, 1.5)[0], 105.0)
        height = lane("a/placement/elevation_deg", (0.0, 80.0), (1.0, -80.0))
        self.assertEqual(at(height, 0.5), [0.0])


class Work(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("a.wav", noise(1, 0.2))
        self.made = self.mix(
            [
                {
                    "sound": "a.wav",
                    "sends": [{"bus": "b"}],
                    "chain": [{"kind": "eq", "bands": [{"shape": "bell"}]}],
                },
                {"sound": "a.wav"},
            ],
            buses=[{"id": "b", "name": "B"}],
        )

    def test_what_may_move_and_how_far(self) -> None:
        for target, wanted in (
            ("t0/gain_db", (-120.0, 12.0)),
            ("t0/placement/x", (-1.0, 1.0)),
            ("t0/placement/extent_height_deg", (0.0, 360.0)),
            ("t0/sends/b/level_db", (-120.0, 12.0)),
            ("t0/chain/0/bands/0/frequency_hz", (10.0, 22000.0)),
        ):
            self.assertEqual(range_of(self.made, target), wanted)
        for target in (
            "t0/name",
            "t0/placement/mode",
            "t0/placement/sphere_m",
            "t0/chain/1/width",
            "t0/chain/0/phase",
            "t0/sends/b/tap",
            "t0/placement",
            "t0",
            "t9/gain_db",
            "t0/chain/0/bands/3/gain_db",
        ):
            with self.assertRaises(ValueError, msg=target):
                range_of(self.made, target)

    def test_drawing_into_a_lane_keeps_what_is_before_and_after(self) -> None:
        mix = lanes.with_lane(self.made, lane("t0/gain_db", (0.0, -10.0), (4.0, -10.0), (8.0, 0.0)))
        stroke = [{"t_s": 3.0, "value": -30.0}, {"t_s": 5.0, "value": -20.0}]
        draw = {
            "kind": "draw_lane",
            "strip": "t0",
            "path": "gain_db",
            "points": stroke,
            "into": True,
        }
        found = lanes.lane_of(read(draw).apply(mix), "t0/gain_db")
        self.assertEqual(
            [(p.t_s, p.value) for p in found.points],
            [(0.0, -10.0), (2.999, -10.0), (3.0, -30.0), (5.0, -20.0), (8.0, 0.0)],
        )
        with self.assertRaisesRegex(InputError, "goes from -120 to 12"):
            read({**draw, "points": [{"t_s": 0.0, "value": 20.0}]}).apply(mix)
        with self.assertRaisesRegex(InputError, "moves nothing that can move"):
            read({**draw, "path": "name"}).apply(mix)

    def test_trim_stretch_scale(self) -> None:
        one = lane("t0/gain_db", (1.0, -10.0), (3.0, -20.0), (9.0, 0.0))
        trimmed = edited(one, "trim_lane", self.made, start_s=2.0, end_s=6.0)
        self.assertEqual(
            [(p.t_s, p.value) for p in trimmed.points], [(2.0, -15.0), (3.0, -20.0), (6.0, -10.0)]
        )
        longer = edited(one, "stretch_lane", self.made, factor=2.0, by_s=0.5)
        self.assertEqual([p.t_s for p in longer.points], [1.5, 5.5, 17.5])
        larger = edited(one, "scale_lane", self.made, factor=2.0, about=-10.0)
        self.assertEqual([p.value for p in larger.points], [-10.0, -30.0, 10.0])
        held = edited(one, "scale_lane", self.made, factor=10.0, about=10.0)
        self.assertEqual([p.value for p in held.points], [-120.0, -120.0, -90.0])

    def test_a_phrase_is_moved_and_all_else_stays(self) -> None:
        phrase = {"strip": "t0", "path": "gain_db", "value": -6.0, "start_s": 2.0, "end_s": 5.0}
        fresh = lanes.lane_of(
            read({"kind": "move_phrase", **phrase}).apply(self.made), "t0/gain_db"
        )
        wanted = [(2.0, 0.0), (2.25, -6.0), (4.75, -6.0), (5.0, 0.0)]
        self.assertEqual([(p.t_s, p.value) for p in fresh.points][-4:], wanted)
        one = lane("t0/gain_db", (1.0, -10.0), (3.0, -20.0), (9.0, -8.0))
        moved = edited(
            one, "move_phrase", self.made, value=-6.0, start_s=2.0, end_s=5.0, ramp_s=0.5
        )
        for at, value in ((0.5, -10.0), (1.9, -14.5), (2.5, -6.0), (4.5, -6.0), (5.0, -16.0)):
            self.assertAlmostEqual(lanes.value_at(moved, at), value, places=1, msg=str(at))
        self.assertAlmostEqual(lanes.value_at(moved, 7.0), lanes.value_at(one, 7.0), places=3)
        short = edited(one, "move_phrase", self.made, value=0.0, start_s=2.0, end_s=2.2, ramp_s=9.0)
        self.assertEqual(lanes.value_at(short, 2.1), 0.0)
        for wrong, words in (
            ({"value": 40.0}, "goes from -120 to 12"),
            ({"end_s": 1.0}, "before the start"),
            ({"path": "name"}, "moves nothing that can move"),
        ):
            with self.assertRaisesRegex(InputError, words):
                read({"kind": "move_phrase", **phrase, **wrong}).apply(self.made)

    def test_copies_go_where_such_a_lane_can_be(self) -> None:
        mix = lanes.with_lane(self.made, lane("t0/gain_db", (0.0, -10.0), (1.0, 0.0)))
        copy = {"kind": "copy_lane", "strip": "t0", "path": "gain_db", "to": ["t1"]}
        self.assertEqual(lanes.lane_of(read(copy).apply(mix), "t1/gain_db").points[0].value, -10.0)
        mix = lanes.with_lane(mix, lane("t0/sends/b/level_db", (0.0, -10.0)))
        with self.assertRaisesRegex(InputError, "moves nothing"):
            read({**copy, "path": "sends/b/level_db"}).apply(mix)

    def test_thinning_stays_within_its_bound(self) -> None:
        times = np.arange(0.0, 8.0, 0.02)
        values = 40.0 * np.sin(times) + 0.05 * np.cos(50 * times)
        dense = lane("t0/placement/elevation_deg", *zip(times, values, strict=True))
        fewer = thinned_lane(dense, 0.5)
        self.assertLess(len(fewer.points), len(times) / 8)
        self.assertLessEqual(
            np.abs(lanes.values_at(fewer.points, times) - values).max(), 0.5 + 1e-9
        )
        spinning = lane(
            "t0/placement/azimuth_deg", *((t, (t * 90.0 + 180) % 360 - 180) for t in times)
        )
        kept = thinned_lane(spinning, 1.0)
        self.assertGreater(len(kept.points), 4)  # a turn of 720 degrees stays one
        apart = lanes.values_at(kept.points, times, True) - lanes.values_at(
            spinning.points, times, True
        )
        self.assertLess(np.abs(apart).max(), 1.0)
        stepped = lane(
            "t0/gain_db", (0.0, 0.0), (1.0, 0.0, "hold"), (2.0, -6.0), (3.0, -6.0), (4.0, -6.0)
        )
        self.assertEqual([p.t_s for p in thinned_lane(stepped, 0.1).points], [0.0, 1.0, 2.0, 4.0])

    def test_single_breakpoints_are_moved_added_and_taken_away(self) -> None:
        one = lane("t0/gain_db", (1.0, -10.0), (3.0, -20.0, "hold"), (9.0, 0.0))
        moved = edited(one, "set_breakpoint", self.made, place=0, t_s=4.0, value=-5.0)
        self.assertEqual(
            list(moved.points), [(3.0, -20.0, "hold"), (4.0, -5.0, "linear"), (9.0, 0.0, "linear")]
        )
        added = edited(one, "set_breakpoint", self.made, t_s=2.0, value=-1.0, curve="smooth")
        self.assertEqual(added.points[1], (2.0, -1.0, "smooth"))
        self.assertEqual(len(edited(one, "remove_breakpoint", self.made, place=1).points), 2)
        only = read({"kind": "remove_breakpoint", "strip": "t0", "path": "gain_db", "place": 0})
        mix = lanes.with_lane(self.made, lane("t0/gain_db", (1.0, 0.0)))
        self.assertEqual(only.apply(mix).automation, ())
        for change, words in (
            ({"place": 3}, "no longer there"),
            ({"value": 20.0}, "goes from -120 to 12"),
        ):
            with self.assertRaisesRegex(InputError, words):
                edited(
                    one,
                    "set_breakpoint",
                    self.made,
                    **{"place": 0, "t_s": 0.0, "value": 0.0, **change},
                )


class Tables(unittest.TestCase):
    def test_there_and_back(self) -> None:
        held = [
            lane("a/gain_db", (0.0, -3.25), (1.5, 0.0, "hold")),
            lane("a/placement/x", (0.1, -0.5, "smooth")),
        ]
        text = lane_table.written(held)
        self.assertEqual(
            text.splitlines()[:2], ["parameter,time_s,value,curve", "gain_db,0,-3.25,linear"]
        )
        self.assertEqual(lane_table.read(text, "a"), held)
        self.assertEqual(lane_table.read(text, "b")[0].target, "b/gain_db")

    def test_mistakes_name_their_line(self) -> None:
        for text, words in (
            ("", "first line"),
            ("a,b\n", "first line"),
            ("parameter,time_s,value\n", "no breakpoints"),
            ("parameter,time_s,value,curve\ngain_db,0,loud\n", "Line 2"),
            ("parameter,time_s,value,curve\ngain_db,0,0,linear\ngain_db,1,0,wobbly\n", "Line 3"),
            ("parameter,time_s,value,curve\ngain_db,-1,0\n", "Line 2"),
            ("parameter,time_s,value,curve\ngain_db,0,nan\n", "Line 2"),
        ):
            with self.assertRaisesRegex(InputError, words):
                lane_table.read(text, "a")


class Blocks(unittest.TestCase):
    """ITU-R BS.2076-2, section 5.4.3."""

    def test_there_and_back(self) -> None:
        times = np.array([0.0, 1.5, 4.0, 61.25])
        path = np.array(
            [
                [10, 170, 190, -20],
                [0, 10, 20, -30],
                [1, 1, 0.5, 1],
                [0, 10, 0, 0],
                [0, 0, 0, 0],
                [0, 0, 0, 0],
            ],
            dtype=float,
        )
        text = channel_text.written("Gull & boat", times, path, False, 70.0)
        in_room, back, values = channel_text.read(text)
        self.assertFalse(in_room)
        self.assertIn('rtime="00:00:01.50000" duration="00:00:02.50000"', text)
        self.assertIn('<position coordinate="azimuth">-170.000000</position>', text)
        for moment in np.linspace(0.001, 69.0, 40):
            for row in range(6):
                wanted = np.interp(
                    moment, times, np.unwrap(path[row], period=360.0) if row == 0 else path[row]
                )
                found = np.interp(
                    moment, back, np.unwrap(values[row], period=360.0) if row == 0 else values[row]
                )
                self.assertAlmostEqual((wanted - found + 180) % 360 - 180, 0.0, delta=0.02)

    def test_jumps_room_positions_and_interpolation_lengths(self) -> None:
        text = """<ebuCoreMain><audioChannelFormat>
          <audioBlockFormat rtime="00:00:00.00000" duration="00:00:02.00000">
            <cartesian>1</cartesian>
            <position coordinate="X">-1</position>
            <position coordinate="Y">1</position></audioBlockFormat>
          <audioBlockFormat rtime="00:00:02.00000" duration="00:00:01.00000">
            <cartesian>1</cartesian>
            <position coordinate="X">0.5</position>
            <position coordinate="Y">1</position>
            <jumpPosition interpolationLength="0.25">1</jumpPosition></audioBlockFormat>
        </audioChannelFormat></ebuCoreMain>"""
        in_room, times, values = channel_text.read(text)
        self.assertTrue(in_room)
        self.assertEqual(times.tolist(), [0.0, 2.0, 2.0, 2.25, 3.0])
        self.assertEqual(values[0].tolist(), [-1.0, -1.0, -1.0, 0.5, 0.5])

    def test_what_cannot_be_read_is_told(self) -> None:
        block = (
            '<a><audioBlockFormat rtime="{}"><position '
            'coordinate="{}">{}</position></audioBlockFormat></a>'
        )
        for text, words in (
            ("<a", "not well-formed"),
            ("<a/>", "no audioBlockFormat"),
            (block.format("soon", "azimuth", 1), "hh:mm:ss"),
            (block.format("00:00:00.0", "azimuth", "left"), "not a number"),
            ("<!DOCTYPE a []><a/>", "document type"),
            (
                block.format("00:00:00.0", "azimuth", 1)
                .replace("</a>", block.format("00:00:01.0", "X", 1) + "</a>")
                .replace("</a></a>", "</a>")
                .replace("<a><audioBlock", "<audioBlock", 0),
                ".",
            ),
        ):
            with self.assertRaisesRegex(InputError, words):
                channel_text.read(text)
