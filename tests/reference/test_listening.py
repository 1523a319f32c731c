"""What headphones play, against published figures.

The whole-sphere chart against its definition.
"""

import unittest

import numpy as np

from metaphon.core.spatial.chart import on_chart
from metaphon.core.spatial.directions import unit_vectors
from metaphon.core.spatial.head import SHIPPED, load_head
from metaphon.core.spatial.interaural import interaural
from metaphon.core.spatial.sphere_head import spherical_head
from tests.sounds import RATE_HZ

RADIUS_M, SOUND_M_S = 0.0875, 343.0


def later_ms(head: object, azimuth_deg: float, low_hz: float, high_hz: float) -> float:
    """How much later the far (right) ear hears a source at the left, in a band, ms."""
    left, right = head.responses(unit_vectors([azimuth_deg], [0.0]))[0]  # type: ignore[attr-defined]
    size = 1 << 16
    frequencies = np.fft.rfftfreq(size, 1 / RATE_HZ)
    band = (frequencies > low_hz) & (frequencies < high_hz)
    cross = np.fft.irfft(np.fft.rfft(right, size) * np.conj(np.fft.rfft(left, size)) * band, size)
    return float(np.argmax(np.concatenate([cross[-60:], cross[:80]])) - 60) / RATE_HZ * 1000


def louder_db(head: object, low_hz: float, high_hz: float) -> float:
    """How much louder the near ear hears a source at the side, in a band."""
    spectra = np.fft.rfft(head.responses(unit_vectors([90.0], [0.0]))[0], 4096)  # type: ignore[attr-defined]
    frequencies = np.fft.rfftfreq(4096, 1 / RATE_HZ)
    left, right = np.sum(
        np.abs(spectra[:, (frequencies > low_hz) & (frequencies < high_hz)]) ** 2, axis=1
    )
    return float(10 * np.log10(left / right))


class Heads(unittest.TestCase):
    """Kuhn 1977 (J. Acoust. Soc. Am. 62, 157).

    A rigid sphere, and a manikin like the one measured here.

    Low frequencies 3 (a/c) sin(angle); high frequencies, after Woodworth, (a/c)(angle +
    sin(angle)).
    """

    def test_what_is_drawn_of_a_head_is_what_is_published(self) -> None:
        """Time at low frequencies 3 (a/c) at the side; sides alike; nothing in the middle."""
        azimuth = np.array([90.0, -90.0, 0.0, 180.0])
        for head in (spherical_head(RADIUS_M * 100, RATE_HZ), load_head(SHIPPED, RATE_HZ)):
            time_ms, level_db = interaural(head, azimuth)
            wanted = 3.0 * RADIUS_M / SOUND_M_S * 1000.0
            np.testing.assert_allclose(time_ms, [wanted, -wanted, 0.0, 0.0], atol=0.03)
            self.assertGreater(level_db[0], 8.0)
            np.testing.assert_allclose(level_db + level_db[[1, 0, 2, 3]], 0.0, atol=0.1)

    def test_interaural_time(self) -> None:
        for head in (load_head(SHIPPED, RATE_HZ), spherical_head(8.75, RATE_HZ)):
            for azimuth in (20.0, 45.0, 70.0, 90.0):
                angle = np.radians(azimuth)
                low = 3.0 * RADIUS_M / SOUND_M_S * np.sin(angle) * 1000
                high = RADIUS_M / SOUND_M_S * (angle + np.sin(angle)) * 1000
                self.assertAlmostEqual(later_ms(head, azimuth, 150, 500), low, delta=0.13)
                self.assertAlmostEqual(later_ms(head, azimuth, 2500, 6000), high, delta=0.13)

    def test_interaural_level(self) -> None:
        """A source at the side: under 4 dB at 200 Hz, some 15 to 20 dB at 5 kHz.

        Source: Middlebrooks & Green 1991, Annu. Rev. Psychol. 42, 135 (from memory); Blauert 1997,
        fig. 2.84 likewise.
        """
        for head in (load_head(SHIPPED, RATE_HZ), spherical_head(8.75, RATE_HZ)):
            self.assertLess(abs(louder_db(head, 150, 300)), 4.0)
            self.assertTrue(9.0 < louder_db(head, 4000, 6300) < 26.0)

    def test_a_larger_head_is_later_and_ahead_is_even(self) -> None:
        small, large = spherical_head(7.0, RATE_HZ), spherical_head(10.0, RATE_HZ)
        self.assertGreater(
            later_ms(large, 60.0, 150, 1500), 1.25 * later_ms(small, 60.0, 150, 1500)
        )
        for head in (small, large):
            left, right = head.responses(unit_vectors([0.0], [0.0]))[0]
            np.testing.assert_allclose(left, right, atol=1e-4)


class Chart(unittest.TestCase):
    def test_equal_areas(self) -> None:
        """The area of the chart over that of the sphere is the same everywhere.

        Pi times 2 over 4 pi.
        """
        step = 1e-3
        for azimuth, elevation in ((0, 0), (100, 20), (-170, -40), (45, 70), (-90, -80)):
            here = on_chart(azimuth, elevation)
            aside, above = (
                on_chart(azimuth + step, elevation) - here,
                on_chart(azimuth, elevation + step) - here,
            )
            drawn = abs(aside[0] * above[1] - aside[1] * above[0])
            solid = np.radians(step) ** 2 * np.cos(np.radians(elevation))
            self.assertAlmostEqual(drawn / solid, 0.5, places=3)

    def test_known_places(self) -> None:
        np.testing.assert_allclose(
            on_chart([0, 180, -180, 0, 0], [0, 0, 0, 90, -90]),
            [[0, 0], [-2, 0], [2, 0], [0, 1], [0, -1]],
            atol=1e-9,
        )
