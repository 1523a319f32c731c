"""Dither of 16 and 24 bits: its level, its spectrum, and that it hides no signal.

Source: Lipshitz, Wannamaker & Vanderkooy 1992: with triangular dither of two steps the error has a
mean of nothing and a power of a quarter of a squared step, whatever the signal.
"""

import numpy as np
import soundfile
from scipy.signal import welch

from metaphon.core.files.audio import AudioWriter
from tests.sounds import RATE_HZ, FolderTest, sine


class Dither(FolderTest):
    def error(self, sound: np.ndarray, bits: str) -> np.ndarray:
        """What was written less what was given, in steps."""
        path = self.folder / f"{bits}.wav"
        given = np.atleast_2d(sound).astype(np.float32)
        with AudioWriter(path, 1, RATE_HZ, bits) as writer:
            writer.add(given)
        held = soundfile.read(str(path), dtype="float64")[0]
        return (held - given[0].astype(np.float64)) * 2.0 ** (int(bits) - 1)

    def test_the_error_is_a_quarter_of_a_squared_step(self) -> None:
        for bits in ("16", "24"):
            for peak_dbfs in (-120.0, -60.0, -6.0) if bits == "16" else (-140.0, -100.0, -60.0):
                with self.subTest(bits=bits, peak_dbfs=peak_dbfs):
                    error = self.error(sine(997.0, 4.0, peak_dbfs) + 1e-9, bits)
                    self.assertAlmostEqual(float(np.mean(error)), 0.0, delta=0.005)
                    self.assertAlmostEqual(float(np.mean(error**2)), 0.25, delta=0.005)

    def test_it_is_white(self) -> None:
        """Each octave at its share: 0.25 / (rate / 2) a hertz, within 0.3 dB."""
        error = self.error(sine(997.0, 20.0, -40.0), "16")
        hertz, power = welch(error, RATE_HZ, nperseg=4096)
        wanted = 0.25 / (RATE_HZ / 2.0)
        for low in (93.75, 187.5, 375.0, 750.0, 1500.0, 3000.0, 6000.0, 12000.0):
            band = (hertz >= low) & (hertz < 2.0 * low)
            level_db = 10.0 * np.log10(power[band].mean() / wanted)
            self.assertLess(abs(float(level_db)), 0.3 if low > 300.0 else 0.8, low)

    def test_what_is_softer_than_a_step_is_still_there_and_has_no_harmonics(self) -> None:
        """A tone of half a step, 6 dB below the least bit: kept, all multiples in the noise."""
        tone = sine(1000.0, 20.0, 20.0 * np.log10(0.5 / 32768.0))
        error = self.error(tone, "16")
        heard = error + tone * 32768.0
        at = np.exp(-2j * np.pi * 1000.0 * np.arange(len(heard)) / RATE_HZ)
        self.assertAlmostEqual(2.0 * abs(np.mean(heard * at)), 0.5, delta=0.01)
        for multiple in (2, 3, 5):
            self.assertLess(2.0 * abs(np.mean(heard * at**multiple)), 0.01)

    def test_silence_stays_silence(self) -> None:
        self.assertFalse(self.error(np.zeros(RATE_HZ), "16").any())
