"""A value set by hand where a lane moves it: the lane moves with it, or goes; never nothing."""

from collections.abc import Iterator
from typing import Any

import numpy as np

from metaphon.core.document.lanes import points_of
from metaphon.core.document.positions import FORMS
from metaphon.core.document.value_paths import movable_range, parsed, value_at
from metaphon.core.edits.arrangement import Move
from metaphon.core.edits.moved_values import moved_values
from metaphon.core.edits.values import SetValue, ShiftGain
from metaphon.core.errors import InputError
from metaphon.core.process.registry import KINDS
from tests.sounds import FolderTest, noise

POINTS = ((0.0, 0.25), (2.0, 0.75))  # seconds, and how far up the range


class Trimmed(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("a.wav", noise(1, 0.1))

    def strip(self) -> dict[str, Any]:
        chain: list[dict[str, Any]] = [{"kind": kind} for kind in KINDS]
        next(one for one in chain if one["kind"] == "eq")["bands"] = [{}]
        sends = [{"bus": "b"}]
        return {
            "sound": "a.wav",
            "chain": chain,
            "sends": sends,
            "lfe": {"on": True},
            "placement": {"mode": "object", "extent_height_deg": 10.0},
        }

    def paths(self, part: Any, head: str = "") -> Iterator[str]:
        """Every value below a part that may move."""
        for name in type(part).model_fields:
            held = getattr(part, name)
            if movable_range(part, (name,)):
                yield f"{head}{name}"
            elif isinstance(held, tuple):
                for place, one in enumerate(held):
                    if hasattr(one, "model_fields"):
                        yield from self.paths(one, f"{head}{name}/{getattr(one, 'bus', place)}/")
            elif hasattr(type(held), "model_fields"):
                yield from self.paths(held, f"{head}{name}/")

    def moving(self, *paths: str, points: Any = POINTS, **track: Any) -> Any:
        plain = self.mix([{**self.strip(), **track}], buses=[{"id": "b", "name": "b"}])
        lanes = []
        for path in paths:
            low, high = movable_range(plain.tracks[0], parsed(path)) or (0.0, 0.0)
            low = max(low, -60.0)
            values = [{"t_s": t, "value": low + way * (high - low)} for t, way in points]
            lanes.append({"target": f"t0/{path}", "points": values})
        return self.mix(
            [{**self.strip(), **track}], buses=[{"id": "b", "name": "b"}], automation=lanes
        )

    def test_every_value_is_trimmed_to_what_is_set_at_that_moment(self) -> None:
        every = list(self.paths(self.moving().tracks[0]))
        self.assertGreater(len(every), 80)
        for path in every:
            in_room = path.split("/")[-1] in FORMS["cube"]
            form = {"mode": "object", "coordinates": "cube" if in_room else "sphere"}
            mix = self.moving(path, placement={**self.strip()["placement"], **form})
            before = points_of(mix, f"t0/{path}")
            assert before is not None
            low, high = before.values
            wanted = low + 0.6 * (high - low)
            command = SetValue(strips=("t0",), path=path, value=float(wanted), at_s=1.0)
            with self.subTest(path=path):
                after = command.apply(mix)
                lane = points_of(after, f"t0/{path}")
                if lane is None:  # a switch
                    self.assertEqual(value_at(after.tracks[0], parsed(path)), wanted)
                    continue
                self.assertAlmostEqual(moved_values(after, 1.0)[f"t0 {path}"], wanted, delta=2e-3)
                # by one difference, or by one ratio where frequencies and times are set
                steps = lane.values - before.values
                ratios = lane.values / np.where(before.values == 0.0, 1.0, before.values)
                self.assertLess(min(np.ptp(steps), np.ptp(ratios)), 1e-4)
                self.assertIn("lane trimmed", command.describe(mix))
                over = command.model_copy(update={"write_over": True}).apply(mix)
                self.assertIsNone(points_of(over, f"t0/{path}"))
                self.assertAlmostEqual(value_at(over.tracks[0], parsed(path)), wanted, places=4)

    def test_what_cannot_be_trimmed_is_refused_with_a_way_on(self) -> None:
        points = [{"t_s": 0.0, "value": -20.0}, {"t_s": 2.0, "value": 12.0}]
        mix = self.mix(
            [self.strip()],
            buses=[{"id": "b", "name": "b"}],
            automation=[{"target": "t0/gain_db", "points": points}],
        )
        for value in (-10.0, -120.0):
            with self.assertRaisesRegex(InputError, "write over"):
                SetValue(strips=("t0",), path="gain_db", value=value).apply(mix)
        partly = SetValue(strips=("t0",), path="gain_db", value=-30.0).apply(mix)
        self.assertEqual(moved_values(partly, 0.0)["t0 gain_db"], -30.0)

    def test_the_chosen_many_keep_their_differences_with_and_without_lanes(self) -> None:
        tracks = [{**self.strip(), "gain_db": gain} for gain in (-3.0, -9.0, -120.0)]
        points = [{"t_s": 0.0, "value": -20.0}, {"t_s": 1.0, "value": -120.0}]
        mix = self.mix(
            tracks,
            buses=[{"id": "b", "name": "b"}],
            automation=[{"target": "t1/gain_db", "points": points}],
        )
        for command in (
            SetValue(strips=("t0", "t1", "t2"), path="gain_db", value=1.0),
            ShiftGain(strips=("t0", "t1", "t2"), by_db=4.0),
        ):
            after = command.apply(mix)
            lane = points_of(after, "t1/gain_db")
            assert lane is not None
            self.assertEqual(lane.values.tolist(), [-16.0, -120.0])  # silence stays
            self.assertEqual([one.gain_db for one in after.tracks][::2], [1.0, -120.0])

    def test_a_path_is_moved_as_a_whole_in_both_forms(self) -> None:
        for names, form in (
            (("azimuth_deg", "elevation_deg"), "sphere"),
            (("x", "y"), "cube"),
        ):
            placement = {"mode": "object", "coordinates": form}
            paths = [f"placement/{name}" for name in names]
            points = ((0.0, 0.6), (2.0, 0.7))  # not in the middle of the room
            mix = self.moving(*paths, points=points, placement=placement)
            with self.subTest(form=form):
                after = Move(places={"t0": (40.0, 10.0)}, at_s=1.0).apply(mix)
                now = moved_values(after, 1.0)
                self.assertAlmostEqual(now["t0 placement/azimuth_deg"], 40.0, delta=0.1)
                self.assertAlmostEqual(now["t0 placement/elevation_deg"], 10.0, delta=0.1)
                set_by_one = SetValue(
                    strips=("t0",), path="placement/azimuth_deg", value=20.0, at_s=1.0
                )
                over = SetValue(strips=("t0",), path="placement/y", value=0.5, write_over=True)
                if form == "sphere":  # said in the other form, the whole path goes
                    self.assertEqual(moved_values(over.apply(mix), 1.0), {})
                turned = moved_values(set_by_one.apply(after), 1.0)
                self.assertAlmostEqual(turned["t0 placement/azimuth_deg"], 20.0, delta=0.1)
