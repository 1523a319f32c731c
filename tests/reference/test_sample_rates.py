"""The same sound at 44.1, 96 and 192 kHz as at 48: every processor, every renderer.

The signal is a sum of sines below 8 kHz, which is the same function of time at every rate, so each
rate is held against 48 kHz at the instants that all have in common, 300 a second. Filters end at
half the rate, so near it they may differ; what is bounded here lies an octave and more below.
Without --long only 96 kHz is tried, and no renderer.
"""

import os
import unittest
from collections.abc import Iterator

import numpy as np

from metaphon.core.dsp.motion import PIECE, Motion
from metaphon.core.process.network_reverb import NetworkReverb
from metaphon.core.process.processor import Channels, Processor
from metaphon.core.process.registry import KINDS
from tests.core.test_seams import PLACED, TARGETS, ends_of
from tests.runner import long_test
from tests.sounds import FolderTest

RATES_HZ = (44100, 96000, 192000) if os.environ.get("METAPHON_LONG") == "1" else (96000,)
SINES_HZ = np.geomspace(40.0, 8000.0, 60)
OCTAVES_HZ = (125, 250, 500, 1000, 2000, 4000, 8000)
_PHASES = np.random.default_rng(3).uniform(0.0, 2.0 * np.pi, (6, len(SINES_HZ)))
_FAR_ABOVE_HZ = 16000.0


def sines(rate_hz: int, seconds: float, channels: int) -> np.ndarray:
    at_s = np.arange(-int(-seconds * rate_hz // PIECE) * PIECE) / rate_hz
    sound = np.zeros((channels, len(at_s)))
    for hertz, phases in zip(SINES_HZ, _PHASES.T, strict=True):
        sound += 0.02 * np.sin(2.0 * np.pi * hertz * at_s + phases[:channels, None])
    rise = 0.5 - 0.5 * np.cos(np.pi * np.clip(at_s / 0.05, 0.0, 1.0))
    return np.asarray((sound * rise).astype(np.float32))


def run(processor: Processor, sound: np.ndarray, rate_hz: int) -> np.ndarray:
    latency = processor.latency_samples(rate_hz)
    running = processor.start(Channels(len(sound)), rate_hz, latency)
    out = [
        running.process(sound[:, at : at + 16 * PIECE], Motion.still(processor), at)
        for at in range(0, sound.shape[1], 16 * PIECE)
    ]
    return np.concatenate(out, axis=1)[:, latency:].astype(float)


def at_sines(out: np.ndarray, rate_hz: int) -> np.ndarray:
    """The amplitude of each sine over the second second, (channels, sines)."""
    part = out[:, rate_hz // 2 : rate_hz // 2 + rate_hz]
    turns = np.arange(part.shape[1])[:, None] / rate_hz * SINES_HZ
    window = np.hanning(part.shape[1])
    return np.asarray((part * window) @ np.exp(-2j * np.pi * turns) * (2.0 / window.sum()))


def click(processor: Processor, rate_hz: int, seconds: float) -> np.ndarray:
    """What comes of a click whose spectrum is the same at every rate."""
    sound = np.zeros((2, -int(-seconds * rate_hz // PIECE) * PIECE), np.float32)
    sound[:, PIECE] = rate_hz / 48000.0
    return run(processor, sound, rate_hz)[:, PIECE:]


def octaves_db(out: np.ndarray, rate_hz: int) -> np.ndarray:
    power = np.abs(np.fft.rfft(out) / rate_hz) ** 2
    hertz = np.fft.rfftfreq(out.shape[1], 1.0 / rate_hz)
    step = rate_hz / out.shape[1]
    inside = [(hertz >= at * 2.0**-0.5) & (hertz < at * 2.0**0.5) for at in OCTAVES_HZ]
    return np.array([10.0 * np.log10(step * power[:, band].sum() + 1e-30) for band in inside])


def processors(*kinds: str) -> Iterator[Processor]:
    for name in kinds:
        yield from ends_of(KINDS[name])


class Alike(unittest.TestCase):
    """Each kind by the sharpest measure that it allows."""

    EXACT = ("basics", "all_pass", "eq", "resonator", "doubler", "limiter")
    ROOMS = ("network_reverb", "convolution_reverb")
    PAIRS = ("virtual_pair", "widener")

    def test_every_kind_is_measured(self) -> None:
        self.assertEqual({*self.EXACT, *self.ROOMS, *self.PAIRS}, set(KINDS))

    def test_to_the_wave(self) -> None:
        """-40 dB is what a filter at 1 kHz differs by at 8 kHz, by the bilinear rule."""
        for processor in processors(*self.EXACT):
            if getattr(processor, "frequency_hz", 0.0) > _FAR_ABOVE_HZ:
                continue
            outs = {
                rate_hz: run(processor, sines(rate_hz, 1.5, 2), rate_hz)
                for rate_hz in (48000, *RATES_HZ)
            }
            instants = np.arange(300 // 4, 300)
            kept = outs[48000][:, instants * 160]
            for rate_hz in RATES_HZ:
                off = outs[rate_hz][:, instants * (rate_hz // 300)] - kept
                ratio = np.sqrt(np.mean(off**2) / max(np.mean(kept**2), 1e-12))
                with self.subTest(processor=repr(processor), rate_hz=rate_hz):
                    self.assertLess(20.0 * np.log10(ratio + 1e-12), -40.0)

    def test_pairs(self) -> None:
        """Each ear or side by octave, and how far apart the ears are in time.

        8 us is below what is just noticed between the ears (about 10 us; J. E. Mossop & J. F.
        Culling, Lateralization of large interaural delays, JASA 104, 1998; from memory).
        """
        for processor in processors(*self.PAIRS):
            kept = at_sines(run(processor, sines(48000, 2.0, 2), 48000), 48000)
            for rate_hz in RATES_HZ:
                found = at_sines(run(processor, sines(rate_hz, 2.0, 2), rate_hz), rate_hz)
                with self.subTest(processor=repr(processor), rate_hz=rate_hz):
                    self.near(found, kept, 1.0)
                    if processor.kind == "virtual_pair":
                        low = SINES_HZ < 1500.0
                        turn = np.angle((found[0] / kept[0]) / (found[1] / kept[1]))[low]
                        late_us = turn @ SINES_HZ[low] / (SINES_HZ[low] @ SINES_HZ[low])
                        self.assertLess(abs(late_us / (2.0 * np.pi) * 1e6), 8.0)

    def near(self, found: np.ndarray, kept: np.ndarray, most_db: float) -> None:
        for octave in OCTAVES_HZ[:-1]:
            inside = np.abs(np.log2(SINES_HZ / octave)) <= 0.5
            ratio = np.sum(np.abs(found[:, inside]) ** 2) / np.sum(np.abs(kept[:, inside]) ** 2)
            self.assertLess(abs(10.0 * np.log10(ratio)), most_db, octave)

    def test_rooms_are_as_loud(self) -> None:
        """By octave, in the first 0.3 s and in the next; what is 40 dB down is left alone."""
        for processor in processors(*self.ROOMS):
            if processor.tail_s(48000) > 12.0:
                continue
            late = getattr(processor, "predelay_ms", 0.0) * 1e-3
            levels = {}
            for rate_hz in (48000, *RATES_HZ):
                out = click(processor, rate_hz, late + 0.8)
                cut = [round((late + at_s) * rate_hz) for at_s in (0.0, 0.3, 0.6)]
                parts = (out[:, cut[0] : cut[1]], out[:, cut[1] : cut[2]])
                levels[rate_hz] = np.array([octaves_db(part, rate_hz) for part in parts])
            heard = levels[48000] > levels[48000].max() - 40.0
            for rate_hz in RATES_HZ:
                off = (levels[rate_hz] - levels[48000])[heard]
                with self.subTest(processor=repr(processor), rate_hz=rate_hz):
                    self.assertLess(abs(np.mean(off)), 1.0)
                    self.assertLess(np.abs(off).max(), 4.0)

    def test_network_decays_as_long(self) -> None:
        """Within 5 %, the just noticeable difference (ISO 3382-1, annex A)."""
        hertz = np.array([63.0, 250.0, 1000.0, 4000.0, 8000.0])
        for processor in processors("network_reverb"):
            assert isinstance(processor, NetworkReverb)
            kept = processor.decay_at_s(hertz, 48000)
            for rate_hz in RATES_HZ:
                np.testing.assert_allclose(processor.decay_at_s(hertz, rate_hz), kept, rtol=0.06)


class Renderers(FolderTest):
    @long_test
    def test_every_target_is_as_loud(self) -> None:
        """A sound in each way to be placed, alone in its bed or scene: all outputs together."""
        for name, placement in PLACED.items():
            channels = {"bed": 6, "scene": 4, "dual band": 4}.get(name, 1)
            spread = name in ("wide", "diffuse", "reflected")
            levels: dict[tuple[str, int], np.ndarray] = {}
            for rate_hz in (48000, *RATES_HZ):
                sound = np.zeros((channels, 2 * rate_hz))
                sound[0] = sines(rate_hz, 2.0, 1)[0, : 2 * rate_hz]
                self.write(f"{rate_hz}.wav", sound, rate_hz)
                track = {"sound": f"{rate_hz}.wav", "placement": placement}
                mix = self.mix([track], sample_rate_hz=rate_hz)
                for target in TARGETS:
                    found = at_sines(self.rendered(mix, target), rate_hz)
                    power = np.sum(np.abs(found) ** 2, axis=0)
                    if spread:  # by octave, as each rate has its own chances
                        power = power.reshape(-1, 10).mean(axis=1)
                    levels[target, rate_hz] = 10.0 * np.log10(power)
            for target in TARGETS:
                for rate_hz in RATES_HZ:
                    off = np.abs(levels[target, rate_hz] - levels[target, 48000]).max()
                    with self.subTest(placed=name, target=target, rate_hz=rate_hz):
                        self.assertLess(off, 1.5 if spread else 0.2)
