"""Sources in the field.

Paths recorded by hand and thinned within a bound, and what deliveries will change.
"""

import numpy as np

from metaphon.core.document.delivery_changes import changes
from metaphon.core.document.delivery_limits import DELIVERY_LIMITS
from metaphon.core.document.thinning import thinned_directions
from metaphon.core.edits.lane_edits import StandStill
from metaphon.core.edits.recorded_paths import RecordPath
from metaphon.core.edits.registry import read
from metaphon.core.errors import InputError
from metaphon.core.spatial.directions import unit_vectors
from tests.sounds import FolderTest, noise


class Gestures(FolderTest):
    """A path recorded by hand."""

    def test_thinning_keeps_within_its_angle_everywhere(self) -> None:
        times = np.arange(0.0, 10.0, 0.03)
        azimuth, elevation = 170.0 + 40.0 * np.sin(times), 30.0 * np.cos(times * 0.7)
        wanted = unit_vectors(azimuth, elevation)
        counts = []
        for within in (0.2, 1.0, 5.0):
            kept = thinned_directions(times, azimuth, elevation, within)
            line = unit_vectors(
                np.interp(times, times[kept], azimuth[kept]),
                np.interp(times, times[kept], elevation[kept]),
            )
            apart = np.degrees(np.arccos(np.clip(np.sum(line * wanted, axis=1), -1, 1)))
            self.assertLessEqual(apart.max(), within + 1e-6)
            counts.append(len(kept))
        self.assertTrue(counts[0] > counts[1] > counts[2])
        self.assertLess(counts[1], len(times) / 5)

    def test_a_recording_is_set_into_what_was_there(self) -> None:
        self.write("a.wav", noise(1, 0.1))
        place = {"mode": "object", "azimuth_deg": 20.0, "elevation_deg": 0.0}
        mix = self.mix([{"sound": "a.wav", "placement": place}])
        points = ((2.0, 170.0, 0.0), (3.0, -170.0, 10.0), (4.0, -150.0, 10.0))
        made = RecordPath(strip="t0", points=points, within_deg=0.01).apply(mix)
        lanes = {lane.target: [(p.t_s, p.value) for p in lane.points] for lane in made.automation}
        self.assertEqual(
            lanes["t0/placement/azimuth_deg"],
            [(0.0, 20.0), (1.999, 20.0), (2.0, 170.0), (3.0, -170.0), (4.0, -150.0)],
        )  # across the rear by the shorter way
        again = RecordPath(
            strip="t0", points=((2.5, 180.0, 5.0), (2.8, -176.0, 5.0)), within_deg=0.01
        ).apply(made)
        times = [
            p.t_s for lane in again.automation if "azimuth" in lane.target for p in lane.points
        ]
        self.assertEqual(times, [0.0, 1.999, 2.0, 2.499, 2.5, 2.8, 3.0, 4.0])
        self.assertEqual(StandStill(strip="t0").apply(again), mix)
        for bad in ([], [(1.0, 0.0, 0.0)], [(1.0, 0.0, 0.0), (1.0, 1.0, 0.0)]):
            with self.assertRaisesRegex(InputError, "Nothing was recorded"):
                read({"kind": "record_path", "strip": "t0", "points": bad}).apply(mix)
        with self.assertRaisesRegex(InputError, "Points"):
            read(
                {
                    "kind": "record_path",
                    "strip": "t0",
                    "points": [(0.0, float("nan"), 0.0), (1.0, 0.0, 0.0)],
                }
            )


class Profiles(FolderTest):
    """What a delivery will change is said before it is rendered."""

    def test_each_limit_is_told_of_the_source_it_touches(self) -> None:
        self.write("a.wav", noise(1, 0.1))
        at = lambda **place: {"sound": "a.wav", "placement": {"mode": "object", **place}}  # noqa: E731
        mix = self.mix(
            [
                at(),
                at(elevation_deg=-20.0),
                at(extent_deg=30.0),
                at(distance=0.5),
                at(),
                {"sound": "a.wav"},
                {"sound": "a.wav", "placement": {"mode": "scene"}},
                {**at(), "output": None},
                {**at(), "resting": True},
            ],
            automation=[
                {
                    "target": "t4/placement/elevation_deg",
                    "points": [{"t_s": 0, "value": 0}, {"t_s": 1, "value": -5}],
                }
            ],
        )
        free, only_channels, dome, _, few = DELIVERY_LIMITS
        self.assertEqual(changes(mix, free), {})
        self.assertEqual(
            changes(mix, dome),
            {"t1": ["raised to the ears"], "t4": ["raised to the ears"]},
        )
        small = changes(mix, few)
        self.assertEqual(
            small,
            {
                "t2": ["becomes a point"],
                "t3": ["moved out to the sphere"],
                "t6": ["scene decoded to 5.1"],
            },
        )
        channels = changes(mix, only_channels)
        self.assertEqual([channels[f"t{i}"] for i in range(5)], [["panned into 7.1.4"]] * 5)
        self.assertEqual(channels["t5"], ["bed 5.1 set in 7.1.4"])
        many = self.mix([{**at(), "id": f"o{i}"} for i in range(12)])
        self.assertEqual(list(changes(many, few)), ["o10", "o11"])
