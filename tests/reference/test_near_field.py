"""Near sources on headphones against the exact solution for a rigid sphere, and spheres by rate.

Source: R. O. Duda & W. L. Martens, Range dependence of the response of a spherical head model,
JASA 104(5), 1998, equation 2, summed here from scipy's spherical Bessel functions.
"""

import unittest

import numpy as np
from scipy.special import eval_legendre, spherical_jn, spherical_yn

from metaphon.core.process.virtual_pair import VirtualPair
from metaphon.core.spatial.sphere_head import spherical_head

HEAD_M = 0.0875
SOUND_M_S = 343.0
FROM_M = 1.4  # where the shipped head was measured
WITHIN_DB = {0.2: 3.0, 0.3: 2.0, 0.5: 1.0, 1.0: 0.35, 3.0: 0.35}


def pressure(hertz: float, distance_m: float, cosine: float) -> float:
    """Amplitude at a place on a rigid sphere, of a source that is 1 at a metre without it."""
    size = 2.0 * np.pi * hertz * HEAD_M / SOUND_M_S
    away = distance_m / HEAD_M
    order = np.arange(int(size) + 50)
    there = spherical_jn(order, size * away) + 1j * spherical_yn(order, size * away)
    here = spherical_jn(order, size, True) + 1j * spherical_yn(order, size, True)
    finite = np.isfinite(there) & np.isfinite(here)
    order, there, here = order[finite], there[finite], here[finite]
    total = np.sum((2 * order + 1) * eval_legendre(order, cosine) * there / here)
    return float(abs(away / size * total) / distance_m)


def octave(at_hz: float) -> np.ndarray:
    return np.geomspace(at_hz * 2.0**-0.5, at_hz * 2.0**0.5, 9)


class NearField(unittest.TestCase):
    def test_each_ear_by_octave_as_a_source_comes_near(self) -> None:
        """What nearness adds to each ear: 23 dB at the near one and 13 at the far, at 20 cm."""
        for azimuth_deg in (0.0, 30.0, 60.0, 90.0, 135.0):
            for ear, turn in enumerate((-90.0, 90.0)):
                cosine = float(np.cos(np.radians(azimuth_deg + turn)))
                for distance_m, most_db in WITHIN_DB.items():
                    gained = [self.heard(azimuth_deg, d, ear) for d in (distance_m, FROM_M)]
                    for hertz in (250.0, 500.0, 1000.0, 2000.0, 4000.0):
                        near, far = (
                            np.mean([pressure(one, d, cosine) ** 2 for one in octave(hertz)])
                            for d in (distance_m, FROM_M)
                        )
                        found = gained[0](hertz) - gained[1](hertz)
                        with self.subTest(
                            azimuth_deg=azimuth_deg, ear=ear, distance_m=distance_m, hertz=hertz
                        ):
                            self.assertLess(abs(found - 10.0 * np.log10(near / far)), most_db)

    def heard(self, azimuth_deg: float, distance_m: float, ear: int):  # type: ignore[no-untyped-def]
        """The level of the left channel of a pair at an ear, by octave."""
        pair = VirtualPair(left_deg=azimuth_deg, distance_m=distance_m)
        taps = pair.taps(0, ear, 48000)
        at = np.arange(len(taps)) / 48000.0

        def level_db(hertz: float) -> float:
            waves = np.exp(-2j * np.pi * octave(hertz)[:, None] * at)
            return float(10.0 * np.log10(np.mean(np.abs(waves @ taps) ** 2)))

        return level_db


class Spheres(unittest.TestCase):
    def test_ears_are_as_far_apart_at_every_rate(self) -> None:
        """Woodworth: a source at the side is later at the far ear by a / c (1 + pi / 2)."""
        wanted_us = HEAD_M / SOUND_M_S * (1.0 + np.pi / 2.0) * 1e6
        low = np.linspace(1500.0, 5000.0, 50)
        for rate_hz in (44100, 48000, 96000, 192000):
            head = spherical_head(HEAD_M * 100.0, rate_hz)
            near, far = head.responses(np.array([[-1.0, 0.0, 0.0]]))[0]
            at = np.arange(len(near)) / rate_hz
            waves = np.exp(-2j * np.pi * low[:, None] * at)
            turn = np.unwrap(np.angle((waves @ near) / (waves @ far)))
            slope_us = np.polyfit(low, turn, 1)[0] / (2.0 * np.pi) * 1e6
            with self.subTest(rate_hz):
                self.assertLess(abs(slope_us - wanted_us), 60.0)
                self.assertGreater(float(np.sum(near**2) / np.sum(far**2)), 2.0)
