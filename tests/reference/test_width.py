"""The widener against the algebra of a middle and a side that have nothing in common."""

import unittest

import numpy as np

from metaphon.core.dsp.motion import PIECE, Motion
from metaphon.core.process.processor import Channels
from metaphon.core.process.widener import Widener, side_taps
from tests.sounds import RATE_HZ, noise, sine

_LENGTH_S = 6.0


def pink(seed: int) -> np.ndarray:
    """Noise with as much power in every octave from 40 Hz on, (frames)."""
    white = np.fft.rfft(noise(1, _LENGTH_S, seed)[0])
    spectrum = white / np.sqrt(np.maximum(np.arange(len(white)), 1.0))
    spectrum[: round(40.0 * _LENGTH_S)] = 0.0
    sound = np.fft.irfft(spectrum)
    return (sound / np.std(sound) * 0.1).astype(np.float32)


def widened(sound: np.ndarray, *settings: Widener) -> np.ndarray:
    """A stereo sound through the widener, moving evenly through some settings."""
    frames = sound.shape[1] // PIECE * PIECE
    running = settings[0].start(Channels(2), RATE_HZ, 0)
    places = np.linspace(0, frames, len(settings)) if len(settings) > 1 else np.zeros(1)
    out = []
    for first in range(0, frames, PIECE):
        inside = [(int(p) - first, s) for p, s in zip(places, settings, strict=True)]
        motion = Motion(tuple(p for p, _ in inside), tuple(s for _, s in inside))
        out.append(running.process(sound[:, first : first + PIECE], motion, first))
    return np.concatenate(out, axis=1)


class Widening(unittest.TestCase):
    def setUp(self) -> None:
        self.mono = np.stack([pink(1)] * 2)

    def test_the_mono_sum_is_what_it_was_at_any_setting_and_moving(self) -> None:
        stereo = np.stack([pink(2), pink(3)])
        swept = tuple(Widener(correlation=c) for c in np.linspace(1.0, -0.5, 200))
        both = (*swept, *reversed(swept))
        for sound in (self.mono, stereo):
            for settings in (
                (Widener(correlation=-0.5),),
                (Widener(correlation=0.0, character="open", bass_hz=20.0),),
                both,
            ):
                out = widened(sound, *settings)
                left = out.sum(axis=0) - sound[:, : out.shape[1]].sum(axis=0)
                self.assertLess(20 * np.log10(np.abs(left).max() / np.abs(sound).max()), -120.0)

    def test_it_has_the_correlation_that_was_asked_for(self) -> None:
        for character in ("dense", "open"):
            for wanted in (0.8, 0.5, 0.0, -0.3, -0.5):
                setting = Widener(correlation=wanted, bass_hz=20.0, character=character)
                left, right = widened(self.mono, setting)[:, RATE_HZ:]
                found = np.mean(left * right) / np.sqrt(np.mean(left**2) * np.mean(right**2))
                self.assertAlmostEqual(float(found), wanted, delta=0.04)
                balance = 10 * np.log10(np.mean(left**2) / np.mean(right**2))
                self.assertLess(abs(balance), 0.5, (character, wanted))

    def test_the_side_favours_no_frequency_and_leaves_the_bass_alone(self) -> None:
        for character in ("dense", "open"):
            size = 1 << 16
            level = 20 * np.log10(np.abs(np.fft.rfft(side_taps(character, RATE_HZ), size)))
            self.assertLess(np.abs(level[size // 100 :]).max(), 0.6, character)
        out = widened(self.mono, Widener(correlation=0.0, bass_hz=200.0))
        spectrum = np.abs(np.fft.rfft(out[0] - out[1])) ** 2
        edges = np.array([50.0, 100.0, 1000.0, 2000.0]) * out.shape[1] / RATE_HZ
        low, high = (spectrum[int(a) : int(b)].sum() for a, b in (edges[:2], edges[2:]))
        self.assertLess(10 * np.log10(low / high), -20.0)  # 24 dB an octave, an octave below

    def test_loudness_is_held_where_that_is_asked_for(self) -> None:
        for wanted in (0.5, 0.0, -0.5):
            setting = Widener(correlation=wanted, hold_loudness=True, bass_hz=20.0)
            out = widened(self.mono, setting)
            before = self.mono[:, RATE_HZ : out.shape[1]]
            change = 10 * np.log10(np.mean(out[:, RATE_HZ:] ** 2) / np.mean(before**2))
            self.assertAlmostEqual(float(change), 0.0, delta=0.3)
            self.assertRegex(setting.remark(RATE_HZ), "In mono it is [0-9.]+ dB softer")

    def test_a_quick_move_bends_no_pitch(self) -> None:
        """A sine stays one line: what the move makes beside it falls away as that of a ramp."""
        tone = np.stack([sine(1000.0, 1.0, -12.0)] * 2).astype(np.float32)
        swept = tuple(Widener(correlation=c) for c in (1.0, -0.5, 1.0, -0.5, 1.0))
        out = widened(tone, *swept)[0]
        window = np.blackman(len(out))
        level = 20 * np.log10(np.maximum(np.abs(np.fft.rfft(out * window)), 1e-9))
        hz = np.arange(len(level)) * RATE_HZ / len(out)
        for away_hz, below_db in ((60.0, -60.0), (500.0, -85.0)):
            beside = level[np.abs(hz - 1000.0) > away_hz].max() - level.max()
            self.assertLess(beside, below_db)

    def test_untouched_and_other_widths_pass(self) -> None:
        np.testing.assert_array_equal(
            widened(self.mono, Widener(correlation=1.0)),
            self.mono[:, : self.mono.shape[1] // PIECE * PIECE],
        )
        six = noise(6, 0.5).astype(np.float32)[:, : 8 * PIECE]
        out = Widener().start(Channels(6), RATE_HZ, 0).process(six, Motion.still(Widener()), 0)
        np.testing.assert_array_equal(out, six)
