"""Processors: the mid/side algebra, delay to the sample, and a room that decays as it says."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from metaphon.core.measure.correlation import CorrelationMeter, correlation, fold_down_loss_db
from metaphon.core.process.basics import Basics
from metaphon.core.process.network_reverb import NetworkReverb
from metaphon.core.process.registry import KINDS
from tests.sounds import RATE_HZ, noise


class Correlation(unittest.TestCase):
    @staticmethod
    def of(left: np.ndarray, right: np.ndarray) -> tuple[float | None, float | None]:
        meter = CorrelationMeter(RATE_HZ)
        for a, b in zip(np.array_split(left, 5), np.array_split(right, 5), strict=True):
            meter.add(a.astype(np.float32), b.astype(np.float32))
        meter.finish()
        return meter.overall, meter.loss_db

    def test_alike_opposed_and_unrelated(self) -> None:
        one, two = noise(2, 4.0)
        self.assertAlmostEqual(self.of(one, one)[0], 1.0, places=6)
        self.assertAlmostEqual(self.of(one, one)[1], 0.0, places=6)
        self.assertAlmostEqual(self.of(one, -one)[0], -1.0, places=6)
        self.assertEqual(self.of(one, -one)[1], 120.0)
        self.assertAlmostEqual(self.of(one, two)[0], 0.0, delta=0.02)
        self.assertAlmostEqual(self.of(one, two)[1], 3.01, delta=0.1)

    def test_agrees_with_numpy(self) -> None:
        one, two = noise(2, 2.0)
        two = two + 0.7 * one
        self.assertAlmostEqual(self.of(one, two)[0], np.corrcoef(one, two)[0, 1], delta=0.002)

    def test_silence_has_none(self) -> None:
        silence = np.zeros(4800)
        self.assertEqual(self.of(silence, silence), (None, None))
        self.assertIsNone(correlation(1.0, 0.0, 0.0))
        self.assertAlmostEqual(fold_down_loss_db(1.0, 0.0, 0.0), 3.01, places=2)


class BasicsOnAPair(unittest.TestCase):
    def run_once(self, block: np.ndarray, **parameters: object) -> np.ndarray:
        return Basics(**parameters).start(len(block), RATE_HZ).process(block.astype(np.float32))

    def test_width_by_the_algebra(self) -> None:
        """Equal-power unrelated mid and side, side scaled by w.

        Correlation (1 - w^2) / (1 + w^2) (derived).
        """
        mid, side = noise(2, 4.0)
        pair = np.stack([mid + side, mid - side])
        for width in (0.0, 0.5, 1.0, 1.5, 2.0):
            left, right = self.run_once(pair, width=width)
            wanted = (1 - width**2) / (1 + width**2)
            self.assertAlmostEqual(Correlation.of(left, right)[0], wanted, delta=0.02)

    def test_untouched_settings_change_no_bit(self) -> None:
        block = noise(2, 0.1).astype(np.float32)
        self.assertTrue(np.array_equal(self.run_once(block), block))

    def test_inverting_is_multiplying_by_minus_one(self) -> None:
        """Common practice, no source."""
        block = noise(3, 0.1).astype(np.float32)
        np.testing.assert_array_equal(self.run_once(block, polarity_inverted=True), -block)

    @settings(deadline=None)
    @given(st.lists(st.integers(1, 900), min_size=1, max_size=6), st.floats(0, 20))
    def test_delay_across_blocks(self, sizes: list[int], delay_ms: float) -> None:
        sound = noise(1, sum(sizes) / RATE_HZ).astype(np.float32)[:, : sum(sizes)]
        running = Basics(delay_ms=delay_ms).start(1, RATE_HZ)
        got = np.concatenate(
            [running.process(part) for part in np.split(sound, np.cumsum(sizes)[:-1], axis=1)],
            axis=1,
        )
        late = round(delay_ms * RATE_HZ / 1000)
        wanted = np.concatenate([np.zeros((1, late)), sound], axis=1)[:, : sound.shape[1]]
        np.testing.assert_allclose(got, wanted, atol=0)


class Room(unittest.TestCase):
    @staticmethod
    def response(channels: int = 2, seconds: float = 3.0, **parameters: object) -> np.ndarray:
        click = np.zeros((channels, round(seconds * RATE_HZ)), dtype=np.float32)
        click[:, 0] = 1.0
        return NetworkReverb(predelay_ms=0.0, **parameters).start(channels, RATE_HZ).process(click)

    @staticmethod
    def decay_s(response: np.ndarray) -> float:
        """T30 by backward integration (Schroeder 1965; ISO 3382-1): -5 to -35 dB, doubled."""
        energy = np.cumsum(response[::-1].astype(float) ** 2)[::-1]
        level = 10 * np.log10(energy / energy[0])
        first, last = np.argmax(level < -5), np.argmax(level < -35)
        slope = np.polyfit(np.arange(first, last) / RATE_HZ, level[first:last], 1)[0]
        return -60.0 / slope

    def test_decay_is_what_was_asked(self) -> None:
        """Jot & Chaigne 1991: with no treble loss every line decays alike; to 10 per cent."""
        for wanted in (0.5, 1.0, 2.0):
            got = self.decay_s(
                self.response(seconds=2.5 * wanted, decay_s=wanted, treble_decay=1.0)[0]
            )
            self.assertAlmostEqual(got / wanted, 1.0, delta=0.1)

    def test_treble_dies_sooner(self) -> None:
        response = self.response(decay_s=2.0, treble_decay=0.3)[0]
        early, late = (
            np.abs(np.fft.rfft(response[:24000])),
            np.abs(np.fft.rfft(response[48000:72000])),
        )
        frequency = np.fft.rfftfreq(24000, 1 / RATE_HZ)
        lows, highs = (
            (frequency > 200) & (frequency < 1000),
            (frequency > 8000) & (frequency < 16000),
        )
        fall_low = np.mean(late[lows] ** 2) / np.mean(early[lows] ** 2)
        fall_high = np.mean(late[highs] ** 2) / np.mean(early[highs] ** 2)
        self.assertLess(10 * np.log10(fall_high / fall_low), -10.0)

    def test_a_longer_decay_is_not_louder(self) -> None:
        energies = [
            float(np.sum(self.response(seconds=8.0, decay_s=d)[0] ** 2)) for d in (0.5, 1.5, 4.0)
        ]
        self.assertLess(max(abs(10 * np.log10(e / energies[0])) for e in energies), 2.5)

    def test_returns_are_unlike_each_other(self) -> None:
        left, right = self.response(decay_s=2.0)
        self.assertLess(abs(Correlation.of(left, right)[0]), 0.25)

    def test_wet_only_has_no_dry_and_every_width_runs(self) -> None:
        self.assertEqual(self.response()[0, 0], 0.0)
        dry = self.response(wet_only=False)
        self.assertAlmostEqual(float(dry[0, 0]), 1.0, places=6)
        for channels in (1, 6, 12, 24):
            self.assertTrue(np.isfinite(self.response(channels, 0.2)).all())


class AnyProcessor(unittest.TestCase):
    def test_every_kind_is_fully_described_and_keeps_silence(self) -> None:
        self.assertIn("basics", KINDS)
        for kind, model in KINDS.items():
            for name, told in model.model_json_schema()["properties"].items():
                if name != "kind":
                    self.assertTrue(told.get("description"), f"{kind}.{name} has no help")
                    if told["type"] == "number":
                        self.assertTrue(
                            {"unit", "step", "minimum", "maximum"} <= told.keys(), f"{kind}.{name}"
                        )
            out = model().start(2, RATE_HZ).process(np.zeros((2, 4096), dtype=np.float32))
            self.assertEqual(np.abs(out).max(), 0.0)
