"""From rate to rate, against sines in closed form and a second library."""

import unittest

import numpy as np
import soxr

from metaphon.core.dsp.resampling import Resampler, resampled
from metaphon.core.files.audio import ClipReader
from metaphon.core.files.intake import take_in
from tests.sounds import FolderTest, files_of

RATES = (44100, 48000, 88200, 96000, 176400, 192000)


def sine(frequency_hz: float, rate_hz: int, seconds: float = 0.5) -> np.ndarray:
    return np.sin(2 * np.pi * frequency_hz * np.arange(round(seconds * rate_hz)) / rate_hz)[None]


def fitted(sound: np.ndarray, frequency_hz: float, rate_hz: int) -> tuple[float, float, float]:
    """The gain in dB and phase in degrees of a sine in the middle of a sound, and all else, dB."""
    part = np.arange(len(sound) // 4, 3 * len(sound) // 4)
    turns = 2 * np.pi * frequency_hz * part / rate_hz
    waves = np.stack([np.sin(turns), np.cos(turns)], axis=1)
    (real, aside), *_ = np.linalg.lstsq(waves, sound[part], rcond=None)
    rest = np.std(sound[part] - waves @ [real, aside]) * np.sqrt(2.0)
    gain_db = 20 * np.log10(np.hypot(real, aside))
    return float(gain_db), float(np.degrees(np.arctan2(aside, real))), float(20 * np.log10(rest))


class Conversion(unittest.TestCase):
    def test_flat_up_to_nearly_half_the_lower_rate_and_clean(self) -> None:
        for before in RATES:
            for after in RATES:
                if before == after:
                    continue
                for part in (0.01, 0.5, 0.9, 0.95):
                    hertz = part * min(before, after) / 2
                    out = resampled(sine(hertz, before), before, after)[0].astype(float)
                    gain_db, phase_deg, rest_db = fitted(out, hertz, after)
                    with self.subTest(before=before, after=after, part=part):
                        self.assertAlmostEqual(gain_db, 0.0, delta=0.1)
                        self.assertAlmostEqual(phase_deg, 0.0, delta=0.1)
                        self.assertLess(rest_db, -130.0)

    def test_nothing_comes_back_from_beyond(self) -> None:
        for before, after in ((48000, 44100), (96000, 48000), (192000, 44100), (88200, 48000)):
            for part in (1.002, 1.05, 1.4):
                hertz = part * after / 2
                if hertz < before / 2:
                    out = resampled(sine(hertz, before), before, after)[0]
                    middle = out[len(out) // 4 : 3 * len(out) // 4]
                    with self.subTest(before=before, after=after, part=part):
                        self.assertLess(20 * np.log10(np.abs(middle).max() + 1e-12), -130.0)

    def test_any_blocks_give_the_same_and_as_many_as_the_ratio_says(self) -> None:
        sound = np.random.default_rng(4).standard_normal((3, 20011)).astype(np.float32)
        for before, after in ((44100, 48000), (48000, 44100), (96000, 44100), (32000, 48000)):
            whole = resampled(sound, before, after)
            self.assertEqual(whole.shape, (3, round(20011 * after / before)))
            for size in (1, 777, 4096):
                at_work = Resampler(3, before, after)
                some = sound[:, :3000] if size == 1 else sound
                wanted = resampled(some, before, after)
                starts = range(0, some.shape[1], size)
                parts = [at_work.process(some[:, at : at + size]) for at in starts]
                got = np.concatenate([*parts, at_work.finish()], axis=1)
                np.testing.assert_array_equal(got, wanted)

    def test_against_another_library_below_its_own_edge(self) -> None:
        random = np.random.default_rng(5).standard_normal((1, 48000))
        spectrum = np.fft.rfft(random)
        spectrum[:, 18000:] = 0.0  # up to 18 kHz
        sound = np.fft.irfft(spectrum, 48000).astype(np.float32) * 0.1
        other = soxr.resample(sound.T, 48000, 44100, "VHQ").T
        ours = resampled(sound, 48000, 44100)
        off = np.abs(ours - other)[:, 4410:-4410].max()
        self.assertLess(20 * np.log10(off / np.abs(ours).max()), -100.0)

    def test_rates_with_little_in_common(self) -> None:
        out = resampled(sine(1000.0, 44099), 44099, 48000)[0]
        self.assertEqual(len(out), round(0.5 * 44099) * 48000 // 44099 + 1)
        gain_db, _, _ = fitted(out.astype(float), 1000.0, 48000)
        self.assertAlmostEqual(gain_db, 0.0, delta=0.01)


class InFiles(FolderTest):
    def test_recordings_and_results_keep_their_treble(self) -> None:
        """21 kHz in from 44.1 kHz and out to it: within 0.1 dB."""
        path = self.write("a.wav", 0.5 * sine(20900.0, 44100, 1.0), 44100)
        taken = take_in(path, 48000, self.folder / "b.wav", "a.wav")
        self.assertEqual(taken.frames, 48000)
        reader = ClipReader(self.folder / "b.wav")
        got = reader.read(0, 48000)[0].astype(float)
        reader.close()
        self.assertAlmostEqual(fitted(got / 0.5, 20900.0, 48000)[0], 0.0, delta=0.1)
        mix = self.mix([{"sound": "b.wav"}])
        [made] = files_of(mix, self.folder / "o", "0+1+0", rate_hz=44100, bits="32f")
        reader = ClipReader(made.path)
        got = reader.read(0, 44100)[0].astype(float)
        reader.close()
        self.assertAlmostEqual(fitted(got / 0.5, 20900.0, 44100)[0], 0.0, delta=0.1)
