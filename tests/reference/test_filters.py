"""Equaliser, resonator and low-cut against the cookbook's analogue prototypes, scipy and plain
measurement.
"""

import unittest

import numpy as np
from scipy.signal import freqs, group_delay

from metaphon.core.dsp.motion import Motion
from metaphon.core.dsp.sections import response
from metaphon.core.process.basics import Basics
from metaphon.core.process.eq import Band, Eq
from metaphon.core.process.processor import Channels, Processor
from metaphon.core.process.resonator import Resonator
from tests.sounds import RATE_HZ, noise

FREQUENCIES = np.geomspace(20.0, 20000.0, 97)


def prototype(numerator: list[float], denominator: list[float], corner_hz: float) -> np.ndarray:
    """The response of an analogue prototype H(s), s in units of the corner."""
    return np.asarray(freqs(numerator, denominator, FREQUENCIES / corner_hz)[1])


def decibels(response: np.ndarray) -> np.ndarray:
    return 20.0 * np.log10(np.maximum(np.abs(response), 1e-3))


def measured(processor: Processor, frequencies: np.ndarray) -> np.ndarray:
    """The response of a processor at work, from its answer to an impulse given in uneven blocks."""
    click = np.zeros((1, 1 << 16), dtype=np.float32)
    click[0, 0] = 1.0
    running = processor.start(Channels(1), RATE_HZ, processor.latency_samples(RATE_HZ))
    still = Motion.still(processor)
    parts = np.split(click, [1024, 5120, 40960], axis=1)
    out = np.concatenate([running.process(part, still, 0) for part in parts], axis=1)[0]
    turns = np.exp(-2j * np.pi * np.outer(frequencies / RATE_HZ, np.arange(out.size)))
    return turns @ out.astype(float)


class Cookbook(unittest.TestCase):
    """Audio EQ Cookbook (R. Bristow-Johnson, W3C note 2021), its analogue prototypes."""

    def test_bell_shelves_and_notch(self) -> None:
        for corner, gain_db, q in ((60.0, 9.0, 0.7), (1000.0, -12.0, 3.0), (9000.0, 4.5, 1.4)):
            a, r = 10 ** (gain_db / 40), np.sqrt(10 ** (gain_db / 40)) / q
            wanted = {
                "bell": ([1, a / q, 1], [1, 1 / (a * q), 1]),
                "notch": ([1, 0, 1], [1, 1 / q, 1]),
                "low_shelf": ([a, a * r, a * a], [a, r, 1]),
                "high_shelf": ([a * a, a * r, a], [1, r, a]),
                "tilt": ([a, 1], [1, a]),
            }
            for shape, (numerator, denominator) in wanted.items():
                band = Band(shape=shape, frequency_hz=corner, gain_db=gain_db, q=q)
                got = decibels(response(band.sections(RATE_HZ), FREQUENCIES, RATE_HZ))
                wanted_db = decibels(prototype(numerator, denominator, corner))
                heard = wanted_db > -40.0  # how deep a notch is says its own test
                np.testing.assert_allclose(
                    got[heard],
                    wanted_db[heard],
                    atol=1.0 if shape == "notch" else 0.2,
                    err_msg=shape,
                )

    def test_no_bell_or_shelf_is_squeezed_below_20_khz(self) -> None:
        """Within 0.5 dB of the analogue filter over the whole range of what can be set."""
        for corner in (40.0, 1000.0, 8000.0, 15000.0, 20000.0):
            for gain_db in (-24.0, -12.0, 12.0, 24.0):
                for q in (0.3, 1.0, 4.0, 20.0):
                    a = 10 ** (gain_db / 40)
                    bell = Band(frequency_hz=corner, gain_db=gain_db, q=q).sections(RATE_HZ)
                    np.testing.assert_allclose(
                        decibels(response(bell, FREQUENCIES, RATE_HZ)),
                        decibels(prototype([1, a / q, 1], [1, 1 / (a * q), 1], corner)),
                        atol=0.5,
                        err_msg=f"{corner} Hz, {gain_db} dB, Q {q}",
                    )
                r = np.sqrt(a) / 0.71
                shelf = Band(shape="high_shelf", frequency_hz=corner, gain_db=gain_db)
                np.testing.assert_allclose(
                    decibels(response(shelf.sections(RATE_HZ), FREQUENCIES, RATE_HZ)),
                    decibels(prototype([a * a, a * r, a], [1, r, a], corner)),
                    atol=0.5,
                )

    def test_a_notch_is_deep_and_as_broad_as_it_should_be(self) -> None:
        for corner, q in ((60.0, 4.0), (1000.0, 1.0), (9000.0, 4.0)):
            notch = Band(shape="notch", frequency_hz=corner, q=q).sections(RATE_HZ)
            edge = corner * (np.sqrt(1 + 0.25 / q**2) + np.array([-0.5, 0.5]) / q)
            levels = decibels(response(notch, np.array([corner, *edge]), RATE_HZ))
            self.assertLess(levels[0], -59.0)
            np.testing.assert_allclose(levels[1:], -3.01, atol=0.6)

    def test_resonator_adds_and_takes_the_cookbooks_band_pass(self) -> None:
        band = prototype([0, 1 / 8, 0], [1, 1 / 8, 1], 400.0)
        lifted = Resonator(emphasis_db=6.0, mix=50.0).response(FREQUENCIES, RATE_HZ)
        np.testing.assert_allclose(lifted, 1 + 0.5 * (10 ** (6 / 20) - 1) * band, atol=1e-2)
        removed = Resonator(action="remove", gain_db=-6.0)
        np.testing.assert_allclose(
            removed.response(FREQUENCIES, RATE_HZ), 10 ** (-6 / 20) * (1 - band), atol=1e-2
        )
        self.assertLess(abs(removed.response(np.array([400.0]), RATE_HZ)[0]), 1e-9)

    def test_a_bell_turns_no_phase_at_its_centre(self) -> None:
        for gain_db in (-12.0, 6.0, 18.0):
            at = Eq(bands=(Band(frequency_hz=700.0, gain_db=gain_db, q=2.0),)).response(
                np.array([700.0]), RATE_HZ
            )[0]
            self.assertAlmostEqual(np.degrees(np.angle(at)), 0.0, delta=0.1)
            self.assertAlmostEqual(20 * np.log10(abs(at)), gain_db, places=9)


class Cuts(unittest.TestCase):
    def test_corner_and_slope(self) -> None:
        """Butterworth: 3.01 dB down at the corner, 6.02 dB per octave an order far below it."""
        for slope in range(6, 49, 6):
            band = Band(shape="low_cut", frequency_hz=400.0, slope_db=str(slope))
            corners = np.array([400.0, 50.0, 25.0])
            levels = 20 * np.log10(np.abs(response(band.sections(RATE_HZ), corners, RATE_HZ)))
            self.assertAlmostEqual(levels[0], -3.0103, places=3)
            self.assertAlmostEqual(levels[1] - levels[2], slope / 6 * 6.0206, delta=0.1)
            basics = Basics(low_cut=True, low_cut_hz=400.0, low_cut_slope_db=str(slope))
            np.testing.assert_allclose(
                measured(basics, np.array([400.0]))[0],
                basics.response(np.array([400.0]), RATE_HZ)[0],
                atol=1e-5,
            )


class AtWork(unittest.TestCase):
    BANDS = (
        Band(shape="low_cut", frequency_hz=60.0, slope_db="24"),
        Band(frequency_hz=350.0, gain_db=-6.0, q=2.0),
        Band(shape="high_shelf", frequency_hz=6000.0, gain_db=4.0),
        Band(frequency_hz=1000.0, gain_db=20.0, on=False),
    )

    def test_sound_is_what_the_curve_says(self) -> None:
        for processor in (Eq(bands=self.BANDS), Resonator(mix=70.0)):
            np.testing.assert_allclose(
                measured(processor, FREQUENCIES),
                processor.response(FREQUENCIES, RATE_HZ),
                atol=1e-4,
            )

    def test_linear_phase_has_one_delay_and_the_same_magnitude(self) -> None:
        plain = Eq(bands=self.BANDS)
        for length_ms in (80, 320):
            length = length_ms * RATE_HZ // 1000
            linear = Eq(bands=self.BANDS, phase="linear", length_ms=str(length_ms))
            self.assertEqual(linear.latency_samples(RATE_HZ), length // 2)
            taps = linear.taps(RATE_HZ)
            np.testing.assert_array_equal(taps, taps[::-1])
            delay = group_delay((taps, 1.0), FREQUENCIES, fs=RATE_HZ)[1]
            np.testing.assert_allclose(delay, length / 2, atol=1e-3)
            above = np.geomspace(RATE_HZ * 18 / length, 20000.0, 40)
            ratio = np.abs(linear.response(above, RATE_HZ)) / np.abs(plain.response(above, RATE_HZ))
            np.testing.assert_allclose(20 * np.log10(ratio), 0.0, atol=0.1)
            turned = measured(linear, above) * np.exp(2j * np.pi * above * (length // 2) / RATE_HZ)
            np.testing.assert_allclose(turned, linear.response(above, RATE_HZ), atol=1e-4)


class Sides(unittest.TestCase):
    """Bands for one side of a pair, against the same bands for both on that side alone."""

    def setUp(self) -> None:
        self.sound = noise(2, 1.024, 5).astype(np.float32)

    def through(
        self, bands: list[dict[str, object]], sound: np.ndarray, **eq: object
    ) -> np.ndarray:
        return Eq(bands=bands, **eq).apply(sound.astype(np.float32), RATE_HZ)  # type: ignore[arg-type]

    def test_each_side_alone_goes_through_its_band(self) -> None:
        band = {"frequency_hz": 900.0, "gain_db": 9.0, "q": 2.0}
        to_mid = np.array([[0.5, 0.5], [0.5, -0.5]])
        from_mid = np.array([[1.0, 1.0], [1.0, -1.0]])
        for phase in ("minimum", "linear"):
            both = self.through([band], self.sound, phase=phase)
            flat = self.through([{**band, "gain_db": 0.0}], self.sound, phase=phase)
            for side, place, matrix in (
                ("left", 0, np.eye(2)),
                ("right", 1, np.eye(2)),
                ("mid", 0, to_mid),
                ("side", 1, to_mid),
            ):
                wanted = matrix @ flat
                wanted[place] = (matrix @ both)[place]
                wanted = wanted if matrix[0, 1] == 0.0 else from_mid @ wanted
                got = self.through([{**band, "side": side}], self.sound, phase=phase)
                np.testing.assert_allclose(got, wanted, atol=2e-4, err_msg=f"{phase} {side}")

    def test_sides_come_before_mid_and_side_in_either_phase(self) -> None:
        bands: list[dict[str, object]] = [
            {"frequency_hz": 300.0, "gain_db": -6.0, "side": "side"},
            {"frequency_hz": 2000.0, "gain_db": 8.0, "side": "left"},
            {"frequency_hz": 5000.0, "gain_db": 4.0},
        ]
        for phase in ("minimum", "linear"):
            first = self.through(bands[1:], self.sound, phase=phase)
            wanted = self.through(bands[:1], first, phase=phase)
            got = self.through(bands, self.sound, phase=phase)
            late = 3840 if phase == "linear" else 0  # one filter is half as late as two
            count = got.shape[1] - late
            np.testing.assert_allclose(
                got[:, 8000:count], wanted[:, 8000 + late :], atol=1e-3, err_msg=phase
            )

    def test_a_band_that_is_given_to_one_side_passes_over_without_a_click(self) -> None:
        """Where filters of a pair take over, they know what the common one was given."""
        tone = np.repeat(np.sin(np.arange(1 << 16) * 0.04)[None] * 0.1, 2, axis=0)
        plain = Eq(phase="linear", bands=(Band(frequency_hz=200.0, gain_db=6.0),))
        aside = Eq(phase="linear", bands=(Band(frequency_hz=200.0, gain_db=6.0, side="left"),))
        running = plain.start(Channels(2), RATE_HZ, plain.latency_samples(RATE_HZ))
        motions = [Motion.still(plain)] * 24 + [Motion((0, 1024), (plain, aside))]
        motions += [Motion.still(aside)] * 10 + [Motion((0, 1024), (aside, plain))]
        motions += [Motion.still(plain)] * 10
        parts = [
            running.process(tone[:, n * 1024 : (n + 1) * 1024].astype(np.float32), motion, n * 1024)
            for n, motion in enumerate(motions)
        ]
        out = np.concatenate(parts, axis=1)[:, 12000:]
        still = np.abs(np.diff(out[:, :8000], 2)).max()
        self.assertLess(np.abs(np.diff(out, 2)).max(), 1.5 * still)
        self.assertLess(np.std(out[1, 20000:22000]), 0.9 * np.std(out[0, 20000:22000]))

    def test_mono_and_wider_sounds_know_no_sides(self) -> None:
        one = Eq(bands=(Band(gain_db=12.0, side="left"), Band(gain_db=3.0)))
        wanted = Eq(bands=(Band(gain_db=3.0),))
        for channels in (1, 6):
            sound = noise(channels, 0.2).astype(np.float32)
            got = one.apply(sound, RATE_HZ)
            np.testing.assert_allclose(got, wanted.apply(sound, RATE_HZ), atol=1e-6)
        self.assertIsNone(one.response(FREQUENCIES, RATE_HZ))
        heard = one.heard_on("left").response(FREQUENCIES, RATE_HZ)
        assert heard is not None
        self.assertAlmostEqual(float(decibels(heard).max()), 15.0, delta=0.1)


class BasicsMatrix(unittest.TestCase):
    def test_untouched_by_default(self) -> None:
        for channels in (1, 2, 6, 16):
            np.testing.assert_allclose(Basics().matrix(channels), np.eye(channels), atol=1e-12)

    def test_the_algebra_of_mid_and_side(self) -> None:
        """M = (L + R) / 2, S = (L - R) / 2 (common practice).

        Mid-side out is the inverse of mid-side in.
        """
        pair = noise(2, 0.01)
        coded = Basics(output_as="mid_side").matrix(2) @ pair
        np.testing.assert_allclose(coded, [(pair[0] + pair[1]) / 2, (pair[0] - pair[1]) / 2])
        np.testing.assert_allclose(Basics(input_as="mid_side").matrix(2) @ coded, pair)
        np.testing.assert_allclose(Basics(mono=True).matrix(2), [[0.5, 0.5], [0.5, 0.5]])

    def test_swap_polarity_balance_and_gains(self) -> None:
        np.testing.assert_allclose(Basics(swapped=True).matrix(2), [[0, 1], [1, 0]], atol=1e-12)
        np.testing.assert_allclose(
            Basics(inverted_channels=(2, 9)).matrix(2), [[1, 0], [0, -1]], atol=1e-12
        )
        np.testing.assert_allclose(
            Basics(polarity_inverted=True, inverted_channels=(3,)).matrix(3), np.diag([-1, -1, 1])
        )
        np.testing.assert_allclose(Basics(balance=100.0).matrix(2), [[1, 0], [0, 0]], atol=1e-12)
        np.testing.assert_allclose(
            Basics(input_gain_db=6.0, output_gain_db=-12.0).matrix(1), [[10 ** (-6 / 20)]]
        )

    def test_left_and_right_stand_where_they_are_put_with_equal_power(self) -> None:
        for azimuth in (-30.0, -12.0, 0.0, 22.5, 30.0):
            gains = Basics(left_position_deg=azimuth).matrix(2)[:, 0]
            self.assertAlmostEqual(np.sum(gains**2), 1.0)
            self.assertEqual(np.sign(round(gains[0] - gains[1], 9)), np.sign(azimuth))
        both = Basics(left_position_deg=-30.0, right_position_deg=30.0).matrix(2)
        np.testing.assert_allclose(both, Basics(swapped=True).matrix(2), atol=1e-12)

    def test_a_moved_mid_leaves_the_side(self) -> None:
        moved = Basics(mid_position_deg=30.0).matrix(2)
        np.testing.assert_allclose(moved @ [1.0, 1.0], [np.sqrt(2), 0.0], atol=1e-12)
        np.testing.assert_allclose(moved @ [1.0, -1.0], [1.0, -1.0], atol=1e-12)
