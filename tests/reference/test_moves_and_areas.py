"""How evenly extents fill their area, how moves keep to their arc, what layouts do all round.

Expected values are integrals over thousands of directions, spread by the golden angle, and closed
forms.
"""

from typing import Any

import numpy as np

from metaphon.core.engine.plan import compile
from metaphon.core.engine.render import render
from metaphon.core.spatial.directions import unit_vectors
from metaphon.core.spatial.extent import COARSE, FINE, around
from metaphon.core.spatial.layouts import LAYOUTS, Layout
from metaphon.core.spatial.panning import pan_vectors, vector_pan
from tests.sounds import RATE_HZ, FolderTest, outputs_of

ROUND = [name for name in LAYOUTS if name not in ("0+1+0", "0+2+0", "0+3+0")]


def sphere(count: int) -> np.ndarray:
    """Directions spread evenly over the sphere by the golden angle, (count, 3)."""
    places = np.arange(count) + 0.5
    z = 1.0 - 2.0 * places / count
    turns = np.pi * (1.0 + np.sqrt(5.0)) * places
    level = np.sqrt(1.0 - z * z)
    return np.stack([level * np.cos(turns), level * np.sin(turns), z], axis=1)


EVERYWHERE = sphere(8000)


def area(azimuth: float, elevation: float, width: float, height: float) -> np.ndarray:
    """All directions within an area: a cap, drawn along its longer side."""
    front = unit_vectors(azimuth, elevation)
    aside = unit_vectors(azimuth - 90.0, 0.0)
    if height > width:
        aside, width, height = np.cross(aside, front), height, width
    x, y = EVERYWHERE @ front, EVERYWHERE @ aside
    arc = np.radians(width - height) / 2.0
    turn = np.arctan2(y, x)
    nearest = np.clip(turn, -arc, arc)  # of the line through the middle
    level = np.sqrt(x * x + y * y)
    away = np.arccos(np.clip(level * np.cos(turn - nearest), -1.0, 1.0))
    return EVERYWHERE[away <= np.radians(height) / 2.0 + 1e-9]


def energy(points: np.ndarray, layout: Layout) -> np.ndarray:
    """The powers of loudspeakers for many directions of equal power, (channels)."""
    powers = np.mean(pan_vectors(points, layout) ** 2, axis=0)
    return np.asarray(powers / powers.sum())


class Areas(FolderTest):
    SIZES = ((360, 360), (180, 180), (90, 90), (40, 40), (360, 60), (240, 90), (60, 180))
    MIDDLES = ((0, 0), (180, 0), (45, 30), (-110, -20), (10, 75), (90, 0))

    def test_they_are_filled_evenly(self) -> None:
        """The velocity vector of the points themselves, against the integral over the area."""
        for width, height in self.SIZES:
            for azimuth, elevation in self.MIDDLES:
                wanted = area(azimuth, elevation, width, height).mean(axis=0)
                for rows, most in ((COARSE, 0.04), (FINE, 0.03)):
                    got = around(azimuth, elevation, width, height, rows).mean(axis=0)
                    with self.subTest(size=(width, height), at=(azimuth, elevation)):
                        self.assertLess(np.linalg.norm(got - wanted), most)

    def test_loudspeakers_have_the_powers_of_the_integral(self) -> None:
        for name in ("0+5+0", "0+7+0", "4+5+0", "4+7+0", "9+10+3"):
            layout = LAYOUTS[name]
            for width, height in self.SIZES:
                for azimuth, elevation in self.MIDDLES:
                    wanted = energy(area(azimuth, elevation, width, height), layout)
                    got = energy(around(azimuth, elevation, width, height, FINE), layout)
                    with self.subTest(layout=name, size=(width, height), at=(azimuth, elevation)):
                        self.assertLess(np.abs(got - wanted).max(), 0.035)
                        off = np.linalg.norm((got - wanted) @ layout.vectors)
                        self.assertLess(off, 0.05)

    def test_all_round_it_makes_no_difference_where_it_is(self) -> None:
        wanted = energy(EVERYWHERE, LAYOUTS["0+5+0"])
        for azimuth in range(-180, 181, 15):
            got = energy(around(azimuth, 0.0, 360.0, 360.0, FINE), LAYOUTS["0+5+0"])
            np.testing.assert_allclose(got, wanted, atol=0.02)

    def test_a_flight_through_the_listener_never_turns_the_image_about(self) -> None:
        """From 2 m in front to 2 m behind: each step of the energy vector is short."""
        self.write("a.wav", np.full((1, 2 * RATE_HZ), 0.5))
        lanes = [
            {
                "target": "t0/placement/distance",
                "points": [
                    {"t_s": 0.0, "value": 1.0},
                    {"t_s": 1.0, "value": 0.0},
                    {"t_s": 2.0, "value": 1.0},
                ],
            },
            {
                "target": "t0/placement/azimuth_deg",
                "points": [
                    {"t_s": 0.0, "value": 0.0, "curve": "hold"},
                    {"t_s": 1.0, "value": 180.0},
                ],
            },
        ]
        mix = self.mix([{"sound": "a.wav", "placement": {"mode": "object"}}], automation=lanes)
        for name in ("0+5+0", "4+7+0"):
            sound = self.rendered(mix, name)[:, : 2 * RATE_HZ : 480] ** 2
            vectors = (sound / np.maximum(sound.sum(axis=0), 1e-12)).T @ LAYOUTS[name].vectors
            self.assertLess(np.linalg.norm(np.diff(vectors, axis=0), axis=1).max(), 0.15)
            power_db = 10 * np.log10(sound.sum(axis=0) / 0.25)
            self.assertLess(np.ptp(power_db), 1.0)


class Moves(FolderTest):
    def powers_db(self, target: str, points: list[tuple[float, float]], **place: Any) -> np.ndarray:
        self.write("a.wav", np.full((1, RATE_HZ), 0.5))
        listed = [{"t_s": t, "value": v} for t, v in points]
        mix = self.mix(
            [{"sound": "a.wav", "placement": {"mode": "object", **place}}],
            automation=[{"target": "t0/placement/azimuth_deg", "points": listed}],
        )
        blocks = [block[0] for block in render(compile(mix), outputs_of(target))]
        sound = np.concatenate(blocks, axis=1)[:, :RATE_HZ]
        self.gains = sound / 0.5
        return 10 * np.log10(np.sum(sound**2, axis=0) / 0.25)

    def test_power_holds_however_fast_it_goes(self) -> None:
        for target in ("0+5+0", "4+7+0", "9+10+3"):
            for seconds in (0.5, 0.1, 0.03, 0.01):
                for turn in (132.0, 175.0, 60.0):
                    ends = [(0.401, -60.0), (0.401 + seconds, -60.0 + turn)]
                    power_db = self.powers_db(target, ends)
                    with self.subTest(target=target, seconds=seconds, turn=turn):
                        self.assertLess(np.abs(power_db).max(), 0.5)

    def test_it_goes_by_the_loudspeakers_on_its_way(self) -> None:
        """132 degrees in 30 ms: what is heard at each moment comes from where it then is."""
        self.powers_db("0+7+0", [(0.4, -60.0), (0.43, 72.0)])
        layout = LAYOUTS["0+7+0"]
        for part in np.arange(0.1, 1.0, 0.1):
            at = round((0.4 + 0.03 * part) * RATE_HZ)
            wanted = vector_pan(-60.0 + 132.0 * part, 0.0, layout)
            self.assertLess(np.abs(self.gains[:, at] - wanted).max(), 0.12)


class AllRound(FolderTest):
    """What every layout does with every direction.

    `BOUNDS` are kept from what was measured, a little above it: the greatest angle in degrees
    between a direction at the level of the ears and the energy vector of its gains (Gerzon 1992),
    the mean of that angle above the ears, and the shortest energy vector at their level.
    """

    BOUNDS = {
        "0+4+0": (13.5, 33.0, 0.70),
        "0+5+0": (18.5, 34.0, 0.33),  # 140 degrees apart behind
        "2+5+0": (18.5, 23.0, 0.33),
        "4+5+0": (18.5, 10.5, 0.33),
        "4+5+1": (18.5, 10.5, 0.33),
        "0+7+0": (13.5, 33.0, 0.70),
        "2+7+0": (13.5, 18.0, 0.70),
        "4+7+0": (13.5, 8.5, 0.70),
        "3+7+0": (23.0, 11.5, 0.86),
        "4+9+0": (13.5, 8.5, 0.70),
        "9+10+3": (7.5, 6.0, 0.91),
    }

    def test_directions_are_kept_within_bounds(self) -> None:
        ring = unit_vectors(np.arange(-180.0, 180.0), 0.0)
        above = EVERYWHERE[EVERYWHERE[:, 2] > -0.1]
        self.assertEqual(set(self.BOUNDS), set(ROUND))
        for name, (most_deg, mean_deg, shortest) in self.BOUNDS.items():
            with self.subTest(layout=name):
                off_deg, length = self.energy_vectors(ring, LAYOUTS[name])
                self.assertLess(off_deg.max(), most_deg)
                self.assertGreater(length.min(), shortest)
                off_deg, _ = self.energy_vectors(above, LAYOUTS[name])
                self.assertLess(off_deg.mean(), mean_deg)

    def energy_vectors(self, points: np.ndarray, layout: Layout) -> tuple[np.ndarray, np.ndarray]:
        vectors = pan_vectors(points, layout) ** 2 @ layout.vectors
        length = np.linalg.norm(vectors, axis=1)
        cosine = np.sum(vectors * points, axis=1) / np.maximum(length, 1e-9)
        return np.degrees(np.arccos(np.clip(cosine, -1.0, 1.0))), length

    def test_gains_do_not_hang_on_a_diagonal(self) -> None:
        """Left and right alike, power 1, and no loudspeaker starts or stops at once."""
        steps = unit_vectors(np.arange(-180.0, 180.0, 0.5)[:, None], np.arange(-88.0, 89.0, 4.0))
        for name in ROUND:
            layout = LAYOUTS[name]
            gains = pan_vectors(steps, layout)
            np.testing.assert_allclose((gains**2).sum(axis=-1), 1.0, atol=1e-9)
            with self.subTest(layout=name):
                level = gains[:, 20:26]  # within 12 degrees of the ears
                self.assertLess(np.abs(np.diff(level**2, axis=0)).max(), 0.09)

    def test_four_round_a_place_all_play_it(self) -> None:
        """Near the middle of a face: all its corners, each by how near it is."""
        gains = vector_pan(-70.0, 15.0, LAYOUTS["4+5+0"])
        four = [LAYOUTS["4+5+0"].labels.index(one) for one in ("M-030", "M-110", "U-030", "U-110")]
        self.assertGreater((gains[four] ** 2).min(), 0.08)
        for azimuth, elevation in ((-44.6, 8.7), (-95.0, 8.7), (-44.6, 21.0), (-95.0, 21.0)):
            gains = vector_pan(azimuth, elevation, LAYOUTS["4+5+0"])
            self.assertGreater((gains[four] ** 2).min(), 0.02)

    def test_what_is_lost_goes_to_what_stands_nearest(self) -> None:
        layout = LAYOUTS["2+7+0"]
        for azimuth in (30.0, -30.0, 135.0, -135.0):
            gains = dict(zip(layout.labels, vector_pan(azimuth, 30.0, layout), strict=True))
            self.assertAlmostEqual(gains[f"M{azimuth:+04.0f}"], 1.0, places=6)

    def test_mono_in_a_bed_is_never_louder_in_another(self) -> None:
        """Of all beds in all targets, at all angles; by the powers of what each loudspeaker has."""
        self.write("a.wav", np.full((1, 2400), 0.5))
        for bed in ("0+5+0", "0+7+0", "4+5+0", "4+7+0"):
            for target in ("0+2+0", "0+3+0", "0+5+0", "0+7+0", "4+5+0"):
                if LAYOUTS[target].channels >= LAYOUTS[bed].channels:
                    continue
                for azimuth in (0, 15, 40, 70, 100, 110, 125, 160, 180):
                    for elevation in (0, 17) if bed[0] == "4" else (0,):
                        place = {
                            "mode": "bed",
                            "layout": bed,
                            "azimuth_deg": azimuth,
                            "elevation_deg": elevation,
                        }
                        mix = self.mix([{"sound": "a.wav", "placement": place}])
                        sound = self.rendered(mix, target)[:, 1000] / 0.5
                        power_db = 10 * np.log10(np.sum(sound**2) + 1e-12)
                        with self.subTest(bed=bed, target=target, at=(azimuth, elevation)):
                            self.assertLess(power_db, 0.05)
