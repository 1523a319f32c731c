"""The widener against the algebra of a middle and a side that have nothing in common."""

import unittest

import numpy as np
import soundfile

from metaphon.core.dsp.motion import PIECE, Motion
from metaphon.core.edits.command import apply
from metaphon.core.edits.registry import read
from metaphon.core.engine.printing import print_strip
from metaphon.core.engine.strip_width import doubles_only, sides_of, through_chain
from metaphon.core.errors import InputError
from metaphon.core.measure.thirds import THIRDS_HZ
from metaphon.core.process.basics import Basics
from metaphon.core.process.doubler import Doubler
from metaphon.core.process.processor import Channels
from metaphon.core.process.widener import Widener, side_taps
from tests.sounds import RATE_HZ, FolderTest, noise, sine

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

    def test_it_is_wide_between_its_corners_alone(self) -> None:
        setting = Widener(correlation=-0.5, bass_hz=300.0, treble_hz=3000.0)
        told = sides_of(widened(self.mono, setting)[:, RATE_HZ:], RATE_HZ)
        for hz, alike in zip(THIRDS_HZ, told.bands, strict=True):
            if 45.0 < hz < 110.0 or hz > 9000.0:
                self.assertGreater(alike or 0.0, 0.9, hz)
            elif 450.0 < hz < 2000.0:
                self.assertLess(alike or 0.0, 0.0, hz)
        whole = widened(self.mono, Widener(correlation=0.0, treble_hz=20000.0))
        near = widened(self.mono, Widener(correlation=0.0, treble_hz=19990.0))
        self.assertLess(np.std(whole - near), 0.2 * np.std(whole))  # it passes over evenly

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


class Foretold(unittest.TestCase):
    """What the formulas say of a pair after a processor, against what is measured of it."""

    def test_of_mono_and_stereo_through_each_of_them(self) -> None:
        one, two = pink(2), pink(3)
        mono, pair = np.stack([one, one]), np.stack([one + 0.4 * two, one - 0.4 * two])
        for processor in (
            Widener(correlation=0.2, bass_hz=20.0),
            Widener(correlation=-0.3, bass_hz=20.0, hold_loudness=True),
            Widener(correlation=-0.1, bass_hz=600.0, treble_hz=5000.0),
            Basics(width=1.8),
            Basics(swapped=True, balance=30.0, inverted_channels=(2,)),
            Doubler(doubles=1, spread=100.0, drift_db=0.0),
            Doubler(doubles=3, spread=60.0, level_db=-4.0, drift_db=0.0),
            Doubler(doubles=2, level_db=-2.0, drift_db=0.0, hold_loudness=True),
        ):
            for name, sound in (("mono", mono), ("pair", pair)):
                frames = sound.shape[1] // PIECE * PIECE
                out = processor.apply(sound[:, :frames].astype(np.float32), RATE_HZ)
                late = processor.latency_samples(RATE_HZ)
                after = sides_of(out[:, late + RATE_HZ :], RATE_HZ)
                before = sides_of(sound[:, RATE_HZ:frames], RATE_HZ)
                wanted = processor.pair_powers(before.thirds, THIRDS_HZ, RATE_HZ)
                assert wanted is not None
                scale = float(np.trace(before.thirds.sum(axis=0)))
                np.testing.assert_allclose(
                    # the lows of doubles are still alike
                    after.thirds.sum(axis=0) / scale,
                    wanted.sum(axis=0) / scale,
                    atol=0.14,
                    err_msg=f"{processor} {name}",
                )

    def test_correlation_is_told_by_band(self) -> None:
        low, high = pink(4), pink(5)
        spectrum = np.fft.rfft(low), np.fft.rfft(high)
        hertz = np.fft.rfftfreq(len(low), 1.0 / RATE_HZ)
        below = np.fft.irfft(np.where(hertz < 500.0, spectrum[0], 0.0))
        above = np.fft.irfft(np.where(hertz >= 500.0, spectrum[1], 0.0))
        told = sides_of(np.stack([below + above, below - above]).astype(np.float32), RATE_HZ)
        for hz, alike in zip(THIRDS_HZ, told.bands, strict=True):
            if 60.0 < hz < 300.0:
                self.assertAlmostEqual(alike or 0.0, 1.0, delta=0.03)
            elif hz > 800.0:
                self.assertAlmostEqual(alike or 0.0, -1.0, delta=0.03)


class Doubles(FolderTest):
    def test_doubles_printed_to_a_track_of_their_own_are_what_was_heard(self) -> None:
        """The mix with them nulls against the mix with the doubler at work."""
        self.write("a.wav", noise(1, 3.0))
        chain = [{"kind": "doubler", "doubles": 2}, {"kind": "basics", "output_gain_db": -3.0}]
        mix = self.mix(
            [{"id": "a", "name": "A", "sound": "a.wav", "gain_db": -2.0, "chain": chain}]
        )
        heard = self.rendered(mix, "0+2+0")
        path, _ = print_strip(doubles_only(mix, "a", 0), "a", self.folder)
        command = read({"kind": "add_double", "strip": "a", "place": 0, "file": str(path)})
        after = apply(mix, command)
        [_, double] = after.tracks
        self.assertEqual((double.name, double.gain_db, double.chain), ("A double", -2.0, ()))
        self.assertEqual(after.tracks[0].chain[0].doubles, 0.0)
        printed = self.rendered(after, "0+2+0")[:, : heard.shape[1]]
        np.testing.assert_allclose(printed, heard[:, : printed.shape[1]], atol=2e-6)

    def test_a_span_is_printed_to_its_place(self) -> None:
        self.write("a.wav", noise(1, 4.0))
        mix = self.mix([{"id": "a", "sound": "a.wav", "chain": [{"kind": "doubler"}]}])
        only = doubles_only(mix, "a", 0)
        whole, _ = print_strip(only, "a", self.folder / "whole")
        part, _ = print_strip(only, "a", self.folder / "part", (1.0, 2.0))
        one, two = (self.read_sound(path) for path in (whole, part))
        np.testing.assert_allclose(two, one[:, RATE_HZ : 2 * RATE_HZ], atol=1e-6)

    def read_sound(self, path: object) -> np.ndarray:
        return np.asarray(soundfile.read(str(path))[0].T)

    def test_what_is_no_doubler_and_what_is_too_wide_are_told(self) -> None:
        self.write("a.wav", noise(6, 1.0))
        mix = self.mix([{"id": "a", "name": "A", "sound": "a.wav", "chain": [{"kind": "basics"}]}])
        for place in (0, 5):
            with self.assertRaisesRegex(InputError, "no doubler"):
                doubles_only(mix, "a", place)
        with self.assertRaisesRegex(InputError, "A has 6 channels"):
            through_chain(mix, "a", (0, RATE_HZ))
