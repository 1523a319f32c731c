"""Processors: the mid/side algebra, delay to the sample, and a room that decays as it says."""

import unittest
from typing import Any, ClassVar

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from metaphon.core.dsp.motion import Motion
from metaphon.core.edits.chains import AddProcessor
from metaphon.core.errors import InputError
from metaphon.core.files.mixdoc import parse
from metaphon.core.measure.correlation import CorrelationMeter, correlation, fold_down_loss_db
from metaphon.core.process.basics import Basics
from metaphon.core.process.network_reverb import NetworkReverb
from metaphon.core.process.processor import Channels
from metaphon.core.process.registry import KINDS
from metaphon.core.spaces.shipped import FOLDER
from metaphon.core.spatial.ambisonics import encode
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
        return Basics(**parameters).apply(block.astype(np.float32), RATE_HZ)

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
    @given(st.lists(st.integers(1, 900), min_size=1, max_size=6), st.integers(0, 9600))
    def test_delay_across_blocks(self, sizes: list[int], late: int) -> None:
        sound = noise(1, sum(sizes) / RATE_HZ).astype(np.float32)[:, : sum(sizes)]
        delayed = Basics(delay_ms=late * 1000 / RATE_HZ)
        running = delayed.start(Channels(1), RATE_HZ, 0)
        got = np.concatenate(
            [
                running.process(part, Motion.still(delayed), 0)
                for part in np.split(sound, np.cumsum(sizes)[:-1], axis=1)
            ],
            axis=1,
        )
        wanted = np.concatenate([np.zeros((1, late)), sound], axis=1)[:, : sound.shape[1]]
        np.testing.assert_allclose(got, wanted, atol=0)

    def test_a_delay_of_part_of_a_sample_turns_phase_and_nothing_else(self) -> None:
        """A delay of d samples turns a sine by 2 pi f d / rate (definition), to 0.8 of Nyquist."""
        delayed = Basics(delay_ms=37.3 * 1000 / RATE_HZ)
        for hertz in (50.0, 1000.0, 12000.0, 19000.0):
            at = np.arange(RATE_HZ)
            out = delayed.apply(
                np.sin(2 * np.pi * hertz * at / RATE_HZ)[None].astype("f4"), RATE_HZ
            )
            wanted = np.sin(2 * np.pi * hertz * (at - 37.3) / RATE_HZ)
            np.testing.assert_allclose(out[0, 500:], wanted[500:], atol=3e-5)
        early = Basics(delay_ms=0.3 * 1000 / RATE_HZ)
        late = early.latency_samples(RATE_HZ)
        out = early.apply(np.sin(2 * np.pi * 997 * at / RATE_HZ)[None].astype("f4"), RATE_HZ)
        wanted = np.sin(2 * np.pi * 997 * (at - 0.3 - late) / RATE_HZ)
        np.testing.assert_allclose(out[0, 500:], wanted[500:], atol=3e-5)


class Room(unittest.TestCase):
    @staticmethod
    def response(channels: int = 2, seconds: float = 3.0, **parameters: object) -> np.ndarray:
        click = np.zeros((channels, round(seconds * RATE_HZ)), dtype=np.float32)
        click[:, 0] = 1.0
        return NetworkReverb(predelay_ms=0.0, **parameters).apply(click, RATE_HZ)

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

    def test_what_comes_out_has_the_energy_of_what_went_in(self) -> None:
        """As stated, whatever decay and size, in the channels alike, and none of it in the LFE."""
        for decay_s, size in ((0.5, 1.0), (1.5, 0.2), (2.0, 3.0), (4.0, 1.0)):
            back = self.response(seconds=2 * decay_s, decay_s=decay_s, size=size, treble_decay=1.0)
            left, right = 10 * np.log10(np.sum(back.astype(float) ** 2, axis=1))
            self.assertAlmostEqual(left, 0.0, delta=0.5)
            self.assertAlmostEqual(left, right, delta=0.5)  # a voice in the middle stays there
        surround = Channels(6, lfe=(3,))
        room = NetworkReverb(predelay_ms=0.0, decay_s=1.0)
        click = np.zeros((6, 98304), dtype=np.float32)
        click[[0, 3], 0] = 1.0
        back = room.start(surround, RATE_HZ, 0).process(click, Motion.still(room), 0)
        energy = np.sum(back.astype(float) ** 2, axis=1)
        self.assertEqual(energy[3], 0.0)
        self.assertAlmostEqual(10 * np.log10(energy.sum()), 0.0, delta=0.5)

    def test_a_scene_comes_back_as_a_diffuse_field(self) -> None:
        """SN3D: a channel of degree n has 1 / (2n + 1) of the energy of W (AmbiX, Nachbar 2011)."""
        room = NetworkReverb(predelay_ms=0.0, decay_s=1.0)
        click = np.zeros((16, 98304), dtype=np.float32)
        click[:, 0] = encode(np.array([40.0]), np.array([20.0]), 3)[0]
        back = room.start(Channels(16, order=3), RATE_HZ, 0).process(click, Motion.still(room), 0)
        energy = 10 * np.log10(np.sum(back.astype(float) ** 2, axis=1))
        degrees = np.floor(np.sqrt(np.arange(16)))
        np.testing.assert_allclose(energy, -10 * np.log10(2 * degrees + 1), atol=1.5)

    def test_no_mode_rings_alone(self) -> None:
        """The late spectrum is as even as that of noise: its largest over its mean is, for N lines
        of an exponential distribution, ln N + 0.58 (Schroeder 1962), here 10 dB, to 2.5 dB.
        """
        for size in (0.3, 1.0, 3.0):
            back = self.response(seconds=3.0, decay_s=2.0, size=size, treble_decay=1.0)[0]
            late = back[24000:96000] * 10 ** (3.0 * np.arange(72000) / (2.0 * RATE_HZ))
            power = np.abs(np.fft.rfft(late * np.hanning(72000))) ** 2
            some = power[150:15000]  # 100 Hz to 10 kHz
            self.assertLess(10 * np.log10(some.max() / some.mean()), 12.5)

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
                    if told.get("type") == "number":
                        self.assertTrue(
                            {"unit", "step", "minimum", "maximum"} <= told.keys(), f"{kind}.{name}"
                        )
            out = model().apply(np.zeros((2, 4096), dtype=np.float32), RATE_HZ)
            self.assertEqual(np.abs(out).max(), 0.0)


class Widths(unittest.TestCase):
    """A processor either works on a number of channels, or says that it does not."""

    AT_WORK: ClassVar[dict[str, dict[str, Any]]] = {
        "basics": {"delay_ms": 1.0},
        "eq": {"bands": [{"gain_db": 6.0}]},
        "limiter": {"drive_db": 6.0},
        "widener": {"correlation": 0.2},
        "convolution_reverb": {"file": FOLDER / "boat_shed_omnis_near.flac"},
    }

    def test_none_is_idle_without_a_word(self) -> None:
        for kind, model in KINDS.items():
            processor = model.model_validate(self.AT_WORK.get(kind, {}))
            for channels in (1, 2, 3, 4, 6, 8, 10, 12, 24):
                sound = noise(channels, 12 * 1024 / RATE_HZ).astype(np.float32)
                late = processor.latency_samples(RATE_HZ)
                running = processor.start(Channels(channels), RATE_HZ, late)
                out = running.process(sound, Motion.still(processor), 0)
                same = np.allclose(out[:, late:], sound[:, : sound.shape[1] - late], atol=1e-6)
                with self.subTest(kind=kind, channels=channels):
                    self.assertEqual(same, bool(processor.idle_on(channels)))

    def test_a_bus_too_wide_is_refused_with_a_way_on(self) -> None:
        bus = {"id": "b", "name": "b", "layout": "4+7+0"}
        mix = parse({"format": "metaphon-mix", "title": "T", "buses": [bus]})
        for kind in ("virtual_pair", "widener"):
            with self.assertRaisesRegex(InputError, "two channels"):
                AddProcessor(strip="b", processor=kind).apply(mix)
