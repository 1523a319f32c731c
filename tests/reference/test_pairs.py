"""Pairs of recordings against the algebra of two signals that are one but for time and polarity."""

import unittest

import numpy as np
from scipy.signal import butter, coherence, sosfilt

from metaphon.core.measure.pair import pair_of
from metaphon.core.spatial.air import SPEED_OF_SOUND_M_S
from tests.sounds import RATE_HZ, noise

_S = 4.0


def late(sound: np.ndarray, samples: float) -> np.ndarray:
    """The same sound later by a part of a sample, by the shift theorem."""
    spectrum = np.fft.rfft(sound, 2 * len(sound))
    turn = np.exp(-2j * np.pi * np.fft.rfftfreq(2 * len(sound)) * samples)
    return np.fft.irfft(spectrum * turn)[: len(sound)].astype(np.float32)


class Pairs(unittest.TestCase):
    def setUp(self) -> None:
        self.sound = noise(1, _S)[0].astype(np.float32)

    def test_delay_to_a_twentieth_of_a_sample(self) -> None:
        for samples in (0.3, 7.5, 48.05, 1000.75):
            for sign in (1.0, -1.0):
                pair = pair_of(self.sound, sign * late(self.sound, samples), RATE_HZ)
                assert pair.found
                self.assertAlmostEqual(pair.found.delay_ms * RATE_HZ / 1000.0, samples, delta=0.05)
                self.assertEqual(pair.found.inverted, sign < 0)
                distance = samples / RATE_HZ * SPEED_OF_SOUND_M_S
                self.assertAlmostEqual(pair.distance_m, distance, delta=0.001)

    def test_a_quarter_of_a_sample_at_10_db_of_noise_and_with_one_side_dull(self) -> None:
        other = noise(1, _S, 7)[0].astype(np.float32)
        other *= np.std(self.sound) / np.std(other) * 10.0 ** (-10.0 / 20.0)
        dull = butter(4, 4000.0, fs=RATE_HZ, output="sos")
        for samples in (33.4, 210.0):
            moved = late(self.sound, samples)
            found = pair_of(self.sound, moved + other, RATE_HZ).found
            assert found
            self.assertAlmostEqual(found.delay_ms * RATE_HZ / 1000.0, samples, delta=0.25)
            found = pair_of(self.sound, -sosfilt(dull, moved).astype(np.float32), RATE_HZ).found
            assert found
            self.assertTrue(found.inverted)
            # a filter delays by itself, at the lows by 2.613 / (2 pi 4000 Hz) (Butterworth, 4)
            group = 2.6131 / (2.0 * np.pi * 4000.0) * RATE_HZ
            self.assertAlmostEqual(found.delay_ms * RATE_HZ / 1000.0, samples + group, delta=2.0)

    def test_the_sum_is_the_comb_that_the_delay_makes(self) -> None:
        """|1 + exp(-jwt)| / 2, whose first zero is at 1 / 2t."""
        pair = pair_of(self.sound, late(self.sound, 48.0), RATE_HZ)  # 1 ms
        f = pair.frequencies_hz
        wanted = 20.0 * np.log10(np.maximum(np.abs(np.cos(np.pi * f * 0.001)), 1e-6))
        seen = (f > 100.0) & (f < 18000.0) & (wanted > -20.0)
        np.testing.assert_allclose(pair.sum_db()[seen], wanted[seen], atol=0.3)
        self.assertAlmostEqual(pair.first_notch_hz or 0.0, 500.0, delta=0.1)
        self.assertLess(np.abs(pair.sum_db(-1.0)[seen]).max(), 0.05)  # pulled forward: all of it

    def test_what_a_mend_gains_is_what_the_sum_then_has(self) -> None:
        other = -0.7 * late(self.sound, 96.5)
        pair = pair_of(self.sound, other, RATE_HZ)
        mended = -late(other, -96.5)
        before, after = (np.mean((self.sound + o)[2000:-2000] ** 2) for o in (other, mended))
        gain = pair.gain_db(-96.5 * 1000.0 / RATE_HZ, True)
        self.assertAlmostEqual(gain, 10.0 * np.log10(after / before), delta=0.1)
        self.assertAlmostEqual(pair.correlation(-96.5 * 1000.0 / RATE_HZ, True), 1.0, delta=0.002)
        self.assertAlmostEqual(pair.correlation(), 0.0, delta=0.02)

    def test_coherence_is_that_of_a_general_library(self) -> None:
        """scipy.signal.coherence, and 1 / (1 + N/S)^2 for a part of noise on each side."""
        hiss = [noise(1, 20.0, seed)[0].astype(np.float32) for seed in (1, 2, 3)]
        one, two = hiss[0] + hiss[1], hiss[0] + hiss[2]
        pair = pair_of(one, two, RATE_HZ)
        _, wanted = coherence(one, two, RATE_HZ, nperseg=2 * (len(pair.frequencies_hz) - 1))
        self.assertLess(np.abs(pair.coherence - wanted)[5:-5].mean(), 0.01)
        self.assertAlmostEqual(float(pair.coherence[50:].mean()), 0.25, delta=0.02)

    def test_unrelated_sounds_are_not_taken_for_one(self) -> None:
        wrong = 0
        for seed in range(100):
            one, two = (noise(1, 1.0, s)[0].astype(np.float32) for s in (2 * seed, 2 * seed + 1))
            found = pair_of(one, two, RATE_HZ).found
            wrong += found is not None and found.confidence > 0.1
        self.assertEqual(wrong, 0)

    def test_silence_and_little_are_no_fault(self) -> None:
        nothing = np.zeros(RATE_HZ, dtype=np.float32)
        pair = pair_of(nothing, self.sound[:RATE_HZ], RATE_HZ)
        self.assertIsNone(pair.found)
        self.assertTrue(np.isfinite(pair.sum_db()).all())
        self.assertEqual(pair.correlation(), 0.0)
        for frames in (1, 2, 50):
            pair = pair_of(self.sound[:frames], self.sound[:frames], RATE_HZ)
            self.assertTrue(np.isfinite(pair.sum_db()).all())
