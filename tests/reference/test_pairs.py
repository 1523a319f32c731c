"""Pairs of recordings against the algebra of two signals that are one but for time and polarity."""

import unittest

import numpy as np
from scipy.signal import butter, coherence, lfilter, sosfilt

from metaphon.core.dsp.fractional_delay import FractionalDelay
from metaphon.core.dsp.motion import Motion
from metaphon.core.measure.alignment import follow
from metaphon.core.measure.pair import pair_of
from metaphon.core.process.all_pass import AllPass, best_rotation
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

    def test_two_performances_are_not_one_sound(self) -> None:
        """Likeness is the share of the energy that both have: a / (a + b) of unrelated noises."""
        for share, is_one in ((0.0, False), (0.16, False), (0.4, True), (0.9, True)):
            for seed in range(3):
                one, two = (
                    noise(1, _S, n)[0] * np.sqrt(1.0 - share) for n in (seed + 20, seed + 40)
                )
                common = noise(1, _S, seed + 60)[0] * np.sqrt(share)
                pair = pair_of(one + common, two + late(common, 31.0), RATE_HZ)
                self.assertEqual(pair.is_one_sound, is_one, (share, seed))
        # as alike as before, but in one half only, or later by 40 ms in the second half
        half = len(self.sound) // 2
        other = noise(1, _S, 9)[0]
        for delay in (None, 0.04 * RATE_HZ):
            two = np.array(other if delay is None else 0.8 * late(self.sound, delay) + 0.6 * other)
            two[:half] = 0.8 * self.sound[:half] + 0.6 * other[:half]
            self.assertFalse(pair_of(self.sound, two.astype(np.float32), RATE_HZ).is_one_sound)

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


class Rotated(unittest.TestCase):
    def test_an_all_pass_turns_by_half_at_its_frequency_and_leaves_every_level(self) -> None:
        """Regalia, Mitra & Vaidyanathan 1988: -90 degrees for the first order, -180 for the second;
        against scipy's difference equation of the first order.
        """
        hertz = np.geomspace(20.0, 20000.0, 60)
        for order, at_centre in (("1", -1j), ("2", -1.0)):
            one = AllPass.model_validate({"frequency_hz": 700.0, "order": order, "q": 1.3})
            np.testing.assert_allclose(np.abs(one.response(hertz, RATE_HZ)), 1.0, atol=1e-9)
            [centre] = one.response(np.array([700.0]), RATE_HZ)
            self.assertAlmostEqual(centre, at_centre, places=6)
        sound = noise(1, 0.5).astype(np.float32)
        c = (np.tan(np.pi * 700.0 / RATE_HZ) - 1.0) / (np.tan(np.pi * 700.0 / RATE_HZ) + 1.0)
        wanted = lfilter([c, 1.0], [1.0, c], sound)
        got = AllPass(frequency_hz=700.0).apply(sound, RATE_HZ)
        np.testing.assert_allclose(got, wanted, atol=1e-6)

    def test_the_rotation_between_two_recordings_is_found_with_what_it_gains(self) -> None:
        sound = sosfilt(butter(2, 3000.0, fs=RATE_HZ, output="sos"), noise(1, _S)).astype(
            np.float32
        )
        for order, hertz in (("1", 240.0), ("2", 900.0)):
            turn = AllPass.model_validate({"frequency_hz": hertz, "order": order})
            turned = turn.apply(sound, RATE_HZ)
            pair = pair_of(turned[0], sound[0], RATE_HZ)
            found, gain_db = best_rotation(pair, RATE_HZ)
            self.assertEqual(found.order, order)
            self.assertAlmostEqual(np.log2(found.frequency_hz / hertz), 0.0, delta=0.08)
            other = found.apply(sound, RATE_HZ)
            before, after = (np.mean((turned + one) ** 2) for one in (sound, other))
            self.assertAlmostEqual(gain_db, 10.0 * np.log10(after / before), delta=0.1)
            self.assertGreater(gain_db, 0.3)


class Followed(unittest.TestCase):
    def moving(self, ms: np.ndarray, at_s: np.ndarray, noise_db: float = -60.0) -> np.ndarray:
        """Noise, and the same as late as is said, turned over."""
        sound = noise(1, 16.0, 3).astype(np.float32)
        delay = Motion(
            tuple((at_s * RATE_HZ).astype(int).tolist()), tuple((ms * RATE_HZ / 1000.0).tolist())
        )
        late = -FractionalDelay(1, 100.0).process(sound, delay)
        unlike = noise(1, 16.0, 8) * 10.0 ** (noise_db / 20.0) * 10.0
        return np.concatenate([sound, late + unlike * np.std(sound)]).astype(np.float32)

    def test_a_source_that_comes_and_goes_is_followed_within_the_bound(self) -> None:
        at_s = np.linspace(0.0, 16.0, 801)
        ms = 5.0 + 1.5 * np.sin(2.0 * np.pi * at_s / 16.0)
        for noise_db in (-60.0, -30.0):  # 40 and 10 dB under the sound
            one, other = self.moving(ms, at_s, noise_db)
            times_s, found_ms, inverted = follow(one, other, RATE_HZ, most_ms_a_s=1.0)
            self.assertTrue(inverted)
            wanted = np.interp(times_s, at_s, ms)
            self.assertLess(np.abs(found_ms - wanted).max(), 0.15, noise_db)
            self.assertLess(np.median(np.abs(found_ms - wanted)), 0.03, noise_db)
            self.assertLessEqual(np.abs(np.diff(found_ms)).max(), 1.0 * 0.25 + 1e-9)

    def test_where_one_is_silent_the_delay_goes_on(self) -> None:
        one, other = self.moving(np.full(2, 3.0), np.array([0.0, 16.0]))
        other[6 * RATE_HZ : 9 * RATE_HZ] = 0.0
        _, found_ms, _ = follow(one, other, RATE_HZ)
        np.testing.assert_allclose(found_ms, 3.0, atol=0.06)

    def test_what_has_nothing_in_common_is_not_followed(self) -> None:
        one, other = noise(2, 6.0, 5).astype(np.float32)
        times_s, found_ms, _ = follow(one, other, RATE_HZ)
        self.assertEqual((len(times_s), len(found_ms)), (0, 0))
