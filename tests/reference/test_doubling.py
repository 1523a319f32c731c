"""Doubles stay within what was asked: in time, in pitch, in level; and unlike the original."""

import unittest

import numpy as np
from scipy.signal import hilbert

from metaphon.core.dsp.motion import PIECE, Motion
from metaphon.core.measure.alignment import align
from metaphon.core.process.doubler import Doubler, drift
from metaphon.core.process.processor import Channels
from tests.sounds import RATE_HZ, noise, sine


def doubled(sound: np.ndarray, setting: Doubler, step: int = PIECE) -> np.ndarray:
    frames = sound.shape[1] // step * step
    running = setting.start(Channels(len(sound)), RATE_HZ, 0)
    return np.concatenate(
        [
            running.process(sound[:, at : at + step], Motion.still(setting), at)
            for at in range(0, frames, step)
        ],
        axis=1,
    )


class Doubling(unittest.TestCase):
    def test_time_drifts_within_its_bounds_and_slowly(self) -> None:
        sound = noise(1, 20.0).astype(np.float32)
        setting = Doubler(original=False, time_ms=25.0, drift_ms=6.0, drift_cents=8.0, drift_db=0.0)
        out = doubled(sound, setting)
        found = []
        for at in range(RATE_HZ, out.shape[1] - RATE_HZ, RATE_HZ // 2):
            span = slice(at, at + RATE_HZ // 8)
            one = align(sound[0, span], out[0, span], RATE_HZ)
            assert one
            found.append(one.delay_ms)
        self.assertGreater(min(found), 25.0 - 6.0 - 0.1)
        self.assertLess(max(found), 25.0 + 6.0 + 0.1)
        self.assertGreater(max(found) - min(found), 3.0)  # it does drift

    def test_pitch_is_bent_no_further_than_asked(self) -> None:
        """The frequency of a sine at each moment, from the phase of its analytic signal."""
        tone = sine(1000.0, 12.0, -12.0)[None].astype(np.float32)
        for cents in (2.0, 12.0):
            setting = Doubler(original=False, drift_ms=8.0, drift_cents=cents, drift_db=0.0)
            out = doubled(tone, setting)[0, RATE_HZ:]
            turned = np.unwrap(np.angle(hilbert(out)))[4800:-4800]
            slow = turned[::480]
            bent = 1200.0 * np.log2(np.diff(slow) * RATE_HZ / (2 * np.pi * 480) / 1000.0)
            self.assertLess(np.abs(bent).max(), cents * 1.05, cents)
            self.assertGreater(np.abs(bent).max(), cents * 0.2, cents)

    def test_level_drifts_within_its_bounds(self) -> None:
        tone = sine(500.0, 20.0, -12.0)[None].astype(np.float32)
        out = doubled(tone, Doubler(original=False, drift_db=3.0, level_db=-6.0))[0, RATE_HZ:]
        blocks = out[: len(out) // 4800 * 4800].reshape(-1, 4800)
        level = 20 * np.log10(np.sqrt(2.0 * np.mean(blocks**2, axis=1)) / 10 ** (-12 / 20))
        self.assertGreaterEqual(level.min(), -9.1)
        self.assertLessEqual(level.max(), -2.9)
        self.assertGreater(np.ptp(level), 1.5)

    def test_left_and_right_are_two_performances(self) -> None:
        one = noise(1, 8.0)[0]
        mono = np.stack([one, one]).astype(np.float32)
        left, right = doubled(mono, Doubler())[:, RATE_HZ:]
        likeness = np.mean(left * right) / np.sqrt(np.mean(left**2) * np.mean(right**2))
        self.assertLess(abs(float(likeness)), 0.05)
        balance = 10 * np.log10(np.mean(left**2) / np.mean(right**2))
        self.assertLess(abs(balance), 1.1)  # what the drift of 1 dB makes
        left, right = doubled(mono, Doubler(spread=0.0))[:, RATE_HZ:]
        np.testing.assert_allclose(left, right, atol=1e-6)

    def test_the_same_at_every_play_and_another_with_another_seed(self) -> None:
        sound = noise(2, 3.0).astype(np.float32)
        one, again = (doubled(sound, Doubler(doubles=3), step) for step in (PIECE, 4 * PIECE))
        count = min(one.shape[1], again.shape[1])
        np.testing.assert_array_equal(one[:, :count], again[:, :count])
        other = doubled(sound, Doubler(doubles=3, seed=2))
        self.assertGreater(np.abs(one - other).max(), 0.01)
        times = np.linspace(0.0, 100.0, 5000)
        wander = drift(1, 0, times, 2.0)
        self.assertLessEqual(np.abs(wander).max(), 1.0)
        self.assertLess(np.abs(np.diff(wander)).max() / (times[1] - times[0]), 1.5 * 2.0 / 2.0)

    def test_silence_gives_silence_and_the_original_is_untouched(self) -> None:
        nothing = np.zeros((2, 8 * PIECE), dtype=np.float32)
        self.assertEqual(np.abs(doubled(nothing, Doubler(doubles=4))).max(), 0.0)
        click = np.zeros((1, 8 * PIECE), dtype=np.float32)
        click[0, 0] = 1.0
        out = doubled(click, Doubler())
        self.assertEqual(out[0, 0], 1.0)
        self.assertEqual(np.abs(out[0, 1:200]).max(), 0.0)
