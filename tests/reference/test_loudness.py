"""Loudness and peaks against their standards and a general-purpose meter."""

import unittest
from pathlib import Path

import numpy as np
import pyloudnorm
import soundfile
from scipy.signal import resample_poly

from metaphon.core.demo import sounds
from metaphon.core.demo.sounds import SOUNDS
from metaphon.core.measure.loudness import LoudnessMeter, channel_weights, k_weighting
from metaphon.core.measure.peaks import PeakMeter, decibels
from metaphon.core.measure.powers import pieces_of
from metaphon.core.measure.programme import ProgrammeMeter
from metaphon.core.spatial.ambisonics import encode
from metaphon.core.spatial.layouts import LAYOUTS
from tests.sounds import RATE_HZ, noise, sine


def meter_of(sound: np.ndarray, layout: str, rate_hz: int = RATE_HZ) -> LoudnessMeter:
    meter = LoudnessMeter(channel_weights(LAYOUTS[layout]), rate_hz)
    for block in np.array_split(sound.astype(np.float32), 7, axis=1):
        meter.add(np.ascontiguousarray(block))
    return meter


def stereo(*steps: tuple[float, float]) -> np.ndarray:
    """1 kHz in both channels: (peak dBFS, seconds) one after another."""
    line = np.concatenate([sine(1000, seconds, level) for level, seconds in steps])
    return np.stack([line, line])


class KWeighting(unittest.TestCase):
    def test_is_the_published_table_at_48_khz(self) -> None:
        """ITU-R BS.1770-5 annex 1, tables 1 and 2 (values from memory, given in the project's
        standards sheet).
        """
        first, second = k_weighting(48000)
        np.testing.assert_allclose(
            first[:3], [1.53512485958697, -2.69169618940638, 1.19839281085285], atol=1e-9
        )
        np.testing.assert_allclose(first[4:], [-1.69065929318241, 0.73248077421585], atol=1e-9)
        np.testing.assert_allclose(
            second, [1, -2, 1, 1, -1.99004745483398, 0.99007225036621], atol=1e-9
        )

    def test_reads_the_same_tone_alike_at_other_rates(self) -> None:
        for rate in (44100, 96000, 192000):
            tone = np.stack([sine(997, 5, -20, rate)] * 2)
            self.assertAlmostEqual(meter_of(tone, "0+2+0", rate).integrated_lufs, -20.0, delta=0.05)


class Integrated(unittest.TestCase):
    def test_full_scale_sine_in_one_channel(self) -> None:
        """ITU-R BS.1770-5, annex 1: 997 Hz at 0 dBFS in one front channel reads -3.01 LKFS."""
        tone = np.stack([sine(997, 5, 0.0), np.zeros(5 * RATE_HZ)])
        self.assertAlmostEqual(meter_of(tone, "0+2+0").integrated_lufs, -3.01, delta=0.02)

    def test_ebu_tech_3341_cases(self) -> None:
        """EBU Tech 3341, cases 1, 2, 3, 5 (levels from memory): integrated loudness to 0.1 LU."""
        cases = (
            (stereo((-23, 20)), -23.0),
            (stereo((-33, 20)), -33.0),
            (stereo((-36, 10), (-23, 60), (-36, 10)), -23.0),
            (stereo((-26, 20), (-20, 20.1), (-26, 20)), -23.0),
        )
        for sound, wanted in cases:
            self.assertAlmostEqual(meter_of(sound, "0+2+0").integrated_lufs, wanted, delta=0.1)

    def test_ebu_tech_3341_surround_case(self) -> None:
        """EBU Tech 3341, case 6 (from memory): -28 L R, -24 C, -30 Ls Rs in 5.0 reads -23."""
        front, centre, rear = (sine(1000, 20, level) for level in (-28, -24, -30))
        loud_lfe = sine(40, 20, -3)
        sound = np.stack([front, front, centre, loud_lfe, rear, rear])
        self.assertAlmostEqual(meter_of(sound, "0+5+0").integrated_lufs, -23.0, delta=0.1)

    def test_ebu_tech_3341_loudest_windows(self) -> None:
        """EBU Tech 3341, cases 10 and 13 (from memory): bursts at -23 dBFS of 3 s, and of 400 ms,
        begun at any time, read a highest short-term, or momentary, loudness of -23 to 0.1 LU.
        """
        for late in range(20):
            begin = 0.15 * late + 0.0137
            short = stereo((-100, begin), (-23, 3.0), (-100, 1.0))
            self.assertAlmostEqual(
                meter_of(short, "0+2+0").highest_short_term_lufs, -23.0, delta=0.1
            )
            begin = 0.02 * late + 0.0137
            burst = stereo((-100, begin), (-23, 0.4), (-100, 1.0))
            self.assertAlmostEqual(
                meter_of(burst, "0+2+0").highest_momentary_lufs, -23.0, delta=0.1
            )

    def test_ebu_tech_3341_pulses_make_one_loudness(self) -> None:
        """EBU Tech 3341, cases 9 and 12 (from memory): -20 dBFS 1.34 s and -30 dBFS 1.66 s by
        turns read a short-term of -23; -20 dBFS 0.18 s and -30 dBFS 0.22 s a momentary of -23.
        """
        slow = meter_of(stereo(*[(-20, 1.34), (-30, 1.66)] * 5), "0+2+0")
        np.testing.assert_allclose(slow.short_term_lufs[1:], -23.0, atol=0.1)
        fast = meter_of(stereo(*[(-20, 0.18), (-30, 0.22)] * 25), "0+2+0")
        np.testing.assert_allclose(fast.momentary_lufs[1:], -23.0, atol=0.1)

    def test_a_scene_is_as_loud_as_its_playing(self) -> None:
        """A plane wave from any direction: that of the same sound from one loudspeaker, to the
        weight of 1.41 that a side has (BS.1770-5, annex 3) and what the decoder's energy varies by.
        """
        sound = noise(1, 6.0, level=0.1)[0]
        alone = meter_of(sound[None], "0+1+0").integrated_lufs
        for order, within_db in ((1, 2.4), (3, 2.4)):
            for azimuth in (0.0, 90.0, 180.0):
                gains = encode(np.array([azimuth]), np.array([0.0]), order)[0]
                meter = ProgrammeMeter((order + 1) ** 2, RATE_HZ, None)
                meter.add((gains[:, None] * sound).astype(np.float32))
                loud = meter.finish().integrated_lufs
                self.assertAlmostEqual(loud, alone + 0.5, delta=within_db)

    def test_what_is_just_under_full_scale_is_counted(self) -> None:
        sound = np.zeros((1, 4800), dtype=np.float32)
        sound[0, 100:103] = [0.995, -0.99, 0.98]
        meter = ProgrammeMeter(1, RATE_HZ, LAYOUTS["0+1+0"])
        meter.add(sound)
        self.assertEqual(meter.finish().near_full_scale_samples, 2)

    def test_momentary_and_short_term_of_a_steady_tone(self) -> None:
        meter = meter_of(stereo((-23, 20)), "0+2+0")
        self.assertAlmostEqual(float(meter.momentary_lufs[10:].max()), -23.0, delta=0.1)
        self.assertAlmostEqual(float(meter.short_term_lufs.max()), -23.0, delta=0.1)

    def test_agrees_with_a_general_purpose_meter_on_uneven_noise(self) -> None:
        """pyloudnorm 0.2, which implements BS.1770-4."""
        sound = noise(2, 12.0) * (0.05 + np.abs(np.sin(np.arange(12 * RATE_HZ) / 30000.0)))
        wanted = pyloudnorm.Meter(RATE_HZ).integrated_loudness(sound.T)
        self.assertAlmostEqual(meter_of(sound, "0+2+0").integrated_lufs, wanted, delta=0.1)

    def test_silence_has_no_loudness(self) -> None:
        meter = meter_of(np.zeros((2, RATE_HZ)), "0+2+0")
        self.assertIsNone(meter.integrated_lufs)
        self.assertIsNone(meter.range_lu)

    def test_block_size_does_not_matter(self) -> None:
        sound = noise(2, 3.3).astype(np.float32)
        whole = LoudnessMeter(np.ones(2), RATE_HZ)
        whole.add(sound)
        pieces = LoudnessMeter(np.ones(2), RATE_HZ)
        for first in range(0, sound.shape[1], 331):
            pieces.add(np.ascontiguousarray(sound[:, first : first + 331]))
        np.testing.assert_allclose(whole.momentary_lufs, pieces.momentary_lufs, atol=1e-9)


class Range(unittest.TestCase):
    def test_ebu_tech_3342_cases(self) -> None:
        """EBU Tech 3342, cases 1 to 3 (from memory): 10, 5 and 20 LU, each to 1 LU."""
        for quiet, wanted, loud in ((-30, 10, -20), (-15, 5, -20), (-20, 20, -40)):
            meter = meter_of(stereo((loud, 20), (quiet, 20)), "0+2+0")
            self.assertAlmostEqual(meter.range_lu, wanted, delta=1.0)


class Weights(unittest.TestCase):
    def test_sides_count_more_and_lfe_not_at_all(self) -> None:
        """ITU-R BS.1770-5, annex 3: 1.41 where 60 <= |azimuth| <= 120 and |elevation| < 30."""
        np.testing.assert_array_equal(channel_weights(LAYOUTS["0+5+0"]), [1, 1, 1, 0, 1.41, 1.41])
        np.testing.assert_array_equal(
            channel_weights(LAYOUTS["4+7+0"]), [1, 1, 1, 0, 1.41, 1.41, 1, 1, 1, 1, 1, 1]
        )


class TruePeak(unittest.TestCase):
    def test_finds_the_peak_between_samples(self) -> None:
        """A sine at a quarter of the rate, 45 degrees off the samples.

        True peak 3.01 dB above them (derived).
        """
        n = np.arange(RATE_HZ)
        tone = (0.5 * np.sin(np.pi / 2 * n + np.pi / 4)).astype(np.float32)[None]
        meter = PeakMeter(1, RATE_HZ)
        meter.add(tone, pieces_of(tone))
        meter.finish()
        self.assertAlmostEqual(decibels(meter.sample_peak[0]), -9.03, delta=0.01)
        self.assertAlmostEqual(decibels(meter.true_peak[0]), -6.02, delta=0.2)

    def test_skipping_quiet_stretches_changes_nothing(self) -> None:
        sound = noise(2, 1.0).astype(np.float32)
        sound[:, 20000] = 0.9
        meter = PeakMeter(2, RATE_HZ)
        meter.add(sound, pieces_of(sound))
        meter.finish()
        pieces = PeakMeter(2, RATE_HZ)
        for first in range(0, sound.shape[1], 997):
            part = np.ascontiguousarray(sound[:, first : first + 997])
            pieces.add(part, pieces_of(part))
        pieces.finish()
        np.testing.assert_allclose(meter.true_peak, pieces.true_peak, rtol=1e-6)


class Recordings(unittest.TestCase):
    def test_speech_and_instruments_agree_with_general_purpose_tools(self) -> None:
        """Integrated loudness against pyloudnorm, true peak against scipy's resampling by 16.

        0.1 LU and 0.2 dB asked.

        The recordings are those that ship with the project: speech, rain, bells and a drum.
        """
        voices = sorted((Path(sounds.__file__).parent / "voices").glob("*.flac"))
        made = [soundfile.read(str(path), dtype="float64", always_2d=True)[0].T for path in voices]
        for name in ("hand_bells", "drum_one", "rain"):
            sound = np.asarray(SOUNDS[name](), dtype=float)
            first = max(int(np.abs(sound).max(axis=0).argmax()) - RATE_HZ, 0)
            made.append(sound[:, first : first + 6 * RATE_HZ])
        self.assertGreaterEqual(len(made), 5)
        for sound in made:
            pair = sound[:2] if len(sound) > 1 else np.repeat(sound, 2, axis=0)
            wanted = pyloudnorm.Meter(RATE_HZ).integrated_loudness(pair.T)
            self.assertAlmostEqual(meter_of(pair, "0+2+0").integrated_lufs, wanted, delta=0.1)
            meter, pair = PeakMeter(2, RATE_HZ), pair.astype(np.float32)
            meter.add(pair, pieces_of(pair))
            meter.finish()
            peak = np.abs(resample_poly(pair, 16, 1, axis=1)).max()
            self.assertAlmostEqual(decibels(meter.true_peak.max()), 20 * np.log10(peak), delta=0.2)
