"""Positions said in another form: both sets kept, how far and what is lost told.

Arrangements turned, tilted, spread.
"""

from typing import Any

import numpy as np

from metaphon.core.checks.rules import mend, noticed
from metaphon.core.document.delivery_changes import changes
from metaphon.core.document.delivery_limits import DELIVERY_LIMITS
from metaphon.core.document.mix import Mix
from metaphon.core.document.positions import (
    FORMS,
    directions_of,
    kept_apart_deg,
    place_lanes,
    positions,
)
from metaphon.core.document.target_omissions import by_the_book, in_no_target
from metaphon.core.document.targets import target_named
from metaphon.core.edits.arrangement import Mirror, Move, Spread, Tilt, Turn
from metaphon.core.edits.position_forms import UseKeptForm, converted
from metaphon.core.edits.values import SetValue
from metaphon.core.errors import InputError
from metaphon.core.spatial.directions import angles_of, unit_vectors
from tests.sounds import FolderTest, noise

PATH = {
    "azimuth_deg": [(0.0, 150.0), (2.0, -140.0), (5.0, -20.0)],
    "elevation_deg": [(0.0, 10.0), (3.0, 85.0), (5.0, -20.0)],
    "distance": [(0.0, 1.0), (5.0, 0.4)],
}


def lanes_of(**paths: list[tuple[float, float]]) -> list[dict[str, Any]]:
    return [
        {
            "target": f"t0/placement/{name}",
            "points": [{"t_s": t, "value": v, "curve": "smooth"} for t, v in points],
        }
        for name, points in paths.items()
    ]


class Converting(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("a.wav", noise(1, 0.2))
        self.write("six.wav", noise(6, 0.2))

    def one(self, automation: Any = (), **place: Any) -> Mix:
        made: Mix = self.mix(
            [{"sound": "a.wav", "placement": {"mode": "object", **place}}],
            automation=list(automation),
        )
        return made

    def path(self, mix: Mix, times: np.ndarray) -> np.ndarray:
        place = mix.tracks[0].placement
        own = {
            n: lane for n, lane in place_lanes(mix, "t0").items() if n in FORMS[place.coordinates]
        }
        return directions_of(positions(place, own, times), place.coordinates, place.reference)

    def test_a_path_goes_there_and_back_within_a_tenth_of_a_degree(self) -> None:
        mix = self.one(lanes_of(**PATH))
        times = np.linspace(0.0, 5.5, 700)
        for reference in ("4+5+0", "4+7+0", "9+10+3"):
            room, told = converted(mix, ["t0"], "cube", reference)
            self.assertEqual(room.tracks[0].placement.coordinates, "cube")
            self.assertLess(told[0].moved_deg, 0.1)
            back, _ = converted(room, ["t0"], "sphere", reference)
            for made in (room, back):
                cosine = np.sum(self.path(mix, times) * self.path(made, times), axis=1)
                self.assertLess(
                    np.degrees(np.arccos(np.clip(cosine, -1, 1))).max(), 0.15, reference
                )
            cosine = np.sum(self.path(mix, times) * self.path(back, times), axis=1)
            self.assertLess(np.degrees(np.arccos(np.clip(cosine, -1, 1))).max(), 0.1, reference)

    def test_both_sets_are_kept_and_can_be_gone_back_to(self) -> None:
        mix = self.one(lanes_of(**PATH), azimuth_deg=40.0)
        self.assertIsNone(kept_apart_deg(mix, mix.tracks[0]))
        room, _ = converted(mix, ["t0"], "cube", "4+5+0")
        old = {lane.target: lane for lane in mix.automation}
        self.assertTrue(
            all(old[lane.target] == lane for lane in room.automation if lane.target in old)
        )
        self.assertLess(kept_apart_deg(room, room.tracks[0]) or 0.0, 0.2)
        again = UseKeptForm(strips=("t0",)).apply(room)
        self.assertEqual(again.tracks[0].placement.coordinates, "sphere")
        np.testing.assert_array_equal(
            self.path(again, np.linspace(0, 5, 50)), self.path(mix, np.linspace(0, 5, 50))
        )

    def test_what_is_lost_is_told(self) -> None:
        for place, words in (
            ({"distance": 2.0}, "outside the room"),
            ({"elevation_deg": -20.0}, "below the listener"),
            ({"distance": 0.5}, "inside the room"),
            ({"extent_deg": 30.0}, "extent"),
        ):
            _, told = converted(self.one(**place), ["t0"], "cube", "4+5+0")
            self.assertIn(words, " ".join(told[0].lost))
        _, told = converted(self.one(azimuth_deg=30.0), ["t0"], "cube", "4+5+0")
        self.assertEqual((told[0].lost, told[0].moved_deg), ((), 0.0))
        self.assertEqual(converted(self.one(), ["t0"], "sphere", "4+5+0")[1], [])  # already so
        with self.assertRaisesRegex(InputError, "no reference"):
            converted(self.one(), ["t0"], "cube", "5.1")

    def test_kept_lanes_that_say_something_else_are_found_and_dropped(self) -> None:
        mix, _ = converted(self.one(lanes_of(**PATH)), ["t0"], "cube", "4+5+0")
        self.assertNotIn("two_forms", {finding.rule for finding in noticed(mix)})
        mix = Mirror(strips=("t0",)).apply(mix)
        found = next(finding for finding in noticed(mix) if finding.rule == "two_forms")
        self.assertIn("the room", found.message)
        after = mend(mix, found).apply(mix)
        self.assertFalse([lane.target for lane in after.automation if "azimuth" in lane.target])
        self.assertNotIn("two_forms", {finding.rule for finding in noticed(after)})

    def test_in_the_room_it_is_moved_along_its_axes_and_by_angles(self) -> None:
        mix, _ = converted(self.one(azimuth_deg=30.0), ["t0"], "cube", "4+5+0")
        place = Move(places={"t0": (110.0, 0.0)}).apply(mix).tracks[0].placement
        self.assertEqual((place.x, place.y, place.z, place.azimuth_deg), (-1.0, -1.0, 0.0, 30.0))
        self.assertEqual(
            SetValue(strips=("t0",), path="placement/z", value=0.5)
            .apply(mix)
            .tracks[0]
            .placement.z,
            0.5,
        )
        sphere = (
            SetValue(strips=("t0",), path="placement/y", value=-1.0)
            .apply(self.one(azimuth_deg=30.0))
            .tracks[0]
            .placement
        )
        self.assertAlmostEqual(sphere.azimuth_deg, 110.0, places=3)
        with self.assertRaisesRegex(InputError, "locked"):
            Move(places={"t0": (0.0, 0.0)}).apply(self.one(locked=True))

    def test_turning_in_the_room_keeps_the_other_set(self) -> None:
        mix, _ = converted(self.one(lanes_of(**PATH), azimuth_deg=40.0), ["t0"], "cube", "4+5+0")
        made = Turn(strips=("t0",), by_deg=30.0).apply(mix)
        self.assertEqual(made.tracks[0].placement.azimuth_deg, 40.0)
        old = {lane.target: lane for lane in mix.automation if "azimuth" in lane.target}
        self.assertTrue(
            old and all(old[lane.target] == lane for lane in made.automation if lane.target in old)
        )
        times = np.linspace(0.0, 5.0, 60)
        azimuth, elevation = angles_of(self.path(mix, times))
        wanted = unit_vectors(azimuth + 30.0, elevation)
        cosine = np.sum(wanted * self.path(made, times), axis=1)
        self.assertLess(np.degrees(np.arccos(np.clip(cosine, -1, 1))).max(), 0.3)


class Arranging(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        self.write("a.wav", noise(1, 0.2))
        places = ((0.0, 0.0), (40.0, 0.0), (20.0, 30.0))
        self.made: Mix = self.mix(
            [
                {
                    "sound": "a.wav",
                    "placement": {"mode": "object", "azimuth_deg": a, "elevation_deg": e},
                }
                for a, e in places
            ]
        )

    def vectors(self, mix: Mix) -> np.ndarray:
        return np.array(
            [unit_vectors(t.placement.azimuth_deg, t.placement.elevation_deg) for t in mix.tracks]
        )

    def test_an_arrangement_keeps_its_angles_when_tilted(self) -> None:
        before, after = (
            self.vectors(self.made),
            self.vectors(
                Tilt(strips=("t0", "t1", "t2"), pitch_deg=25.0, roll_deg=-10.0).apply(self.made)
            ),
        )
        np.testing.assert_allclose(before @ before.T, after @ after.T, atol=1e-4)
        self.assertGreater(after[0, 2], 0.3)  # what was in front is lifted

    def test_spreading_scales_the_distance_from_the_middle(self) -> None:
        wide = self.vectors(Spread(strips=("t0", "t1"), factor=2.0).apply(self.made))
        self.assertAlmostEqual(float(np.degrees(np.arccos(wide[0] @ wide[1]))), 80.0, places=2)
        self.assertEqual(
            Spread(strips=("t0", "t1"), factor=2.0).apply(self.made).tracks[2], self.made.tracks[2]
        )
        opposite = Move(places={"t0": (90.0, 0.0), "t1": (-90.0, 0.0)}).apply(self.made)
        with self.assertRaisesRegex(InputError, "all round"):
            Spread(strips=("t0", "t1"), factor=2.0).apply(opposite)

    def test_what_is_locked_stays(self) -> None:
        track = self.made.tracks[0]
        locked = track.model_copy(
            update={"placement": track.placement.model_copy(update={"locked": True})}
        )
        mix = self.made.model_copy(update={"tracks": (locked, *self.made.tracks[1:])})
        after = Turn(strips=("t0", "t1"), by_deg=10.0).apply(mix)
        self.assertEqual([t.placement.azimuth_deg for t in after.tracks], [0.0, 50.0, 20.0])


class LeftOut(FolderTest):
    def test_what_is_in_no_target_and_what_a_format_leaves_out(self) -> None:
        self.write("a.wav", noise(1, 0.1))
        self.write("six.wav", noise(6, 0.1))
        self.write("scene.wav", noise(9, 0.1))
        mix = self.mix(
            [
                {"sound": "a.wav", "name": "Lost", "placement": {"mode": "none"}},
                {"sound": "six.wav", "name": "Rain"},
                {"sound": "scene.wav", "name": "Sea", "placement": {"mode": "scene"}},
                {"sound": "a.wav", "name": "Gone", "output": None},
                {"sound": "a.wav", "name": "Quiet", "muted": True, "placement": {"mode": "none"}},
            ]
        )
        channels = {"t0": 1, "t1": 6, "t2": 9, "t3": 1, "t4": 1}

        def told(name: str) -> list[str]:
            return by_the_book(mix, target_named(name), channels)

        self.assertEqual([loss.strip_id for loss in in_no_target(mix, channels)], ["t0", "t3"])
        self.assertEqual(told("0+5+0"), [])
        self.assertEqual(told("0+2+0"), ["It has no LFE; that of Rain stays out."])
        self.assertEqual(told("binaural"), ["It has no LFE; that of Rain stays out."])
        self.assertIn("Kept to order 1: Sea.", told("scene1"))

    def test_the_least_important_give_way_first(self) -> None:
        self.write("a.wav", noise(1, 0.1))
        mix = self.mix(
            [
                {
                    "sound": "a.wav",
                    "placement": {"mode": "object", "importance": 3 if i == 2 else 10},
                }
                for i in range(11)
            ]
        )
        self.assertEqual(list(changes(mix, DELIVERY_LIMITS[-1])), ["t2"])
