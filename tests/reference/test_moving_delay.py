"""A delay that moves, against the sound it is made of: sines read at the time they left.

Each value comes from the closed form sin(2 pi f (t - delay)), at every place of a sample.
"""

import unittest

import numpy as np

from metaphon.core.dsp.fractional_delay import FractionalDelay
from metaphon.core.dsp.motion import PIECE, Motion
from metaphon.core.process.basics import Basics
from metaphon.core.process.doubler import Doubler
from metaphon.core.process.processor import Channels
from metaphon.core.spatial.air import SPEED_OF_SOUND_M_S
from tests.sounds import FolderTest

HERTZ = 997.0


def tone(at_s: np.ndarray) -> np.ndarray:
    return np.where(at_s >= 0.0, 0.5 * np.sin(2.0 * np.pi * HERTZ * at_s), 0.0)


class Delays(unittest.TestCase):
    def test_one_that_grows_and_shrinks_by_a_second(self) -> None:
        """At each rate, in short and long blocks: nothing that went by is lost on the way."""
        for rate_hz in (44100, 48000, 96000, 192000):
            seconds = np.array([0.0, 0.5, 5.5, 6.0, 11.0])
            late_s = np.array([0.001, 0.001, 1.0, 1.0, 0.002])
            at = np.arange(11 * rate_hz // PIECE * PIECE)
            wanted = tone(at / rate_hz - np.interp(at / rate_hz, seconds, late_s))
            sound = tone(at / rate_hz)[None].astype(np.float32)
            for size in (PIECE, 16 * PIECE):
                delay = FractionalDelay(1, rate_hz)
                out = []
                for first in range(0, len(at) // size * size, size):
                    ends = np.interp(
                        np.array([first, first + size]) / rate_hz, seconds, late_s * rate_hz
                    )
                    moved = Motion((0, size), tuple(map(float, ends)))
                    out.append(delay.process(sound[:, first : first + size], moved))
                got = np.concatenate(out, axis=1)[0]
                # blocks round the corners of the line, and the beginning, are left out
                apart = np.abs(at[: len(got), None] / rate_hz - seconds).min(axis=1)
                far = (apart > 0.4) & (at[: len(got)] > 1.1 * rate_hz)
                with self.subTest(rate_hz=rate_hz, size=size):
                    self.assertLess(np.abs(got - wanted[: len(got)])[far].max(), 1e-4)


class Processors(FolderTest):
    def test_the_longest_that_each_can_be_asked_for(self) -> None:
        """Moved there from the shortest, as by a lane: the sound is there, at its level."""
        for rate_hz in (48000, 192000):
            frames = 4 * rate_hz // PIECE * PIECE
            at = np.arange(frames)
            sound = np.repeat(tone(at / rate_hz)[None], 2, axis=0).astype(np.float32)
            for first, last in (
                (Basics(delay_ms=1.0), Basics(delay_ms=1000.0)),
                (
                    Doubler(time_ms=5.0, drift_ms=0.0, doubles=1, original=False, drift_db=0.0),
                    Doubler(time_ms=80.0, drift_ms=20.0, doubles=1, original=False, drift_db=0.0),
                ),
            ):
                latency = max(one.latency_samples(rate_hz) for one in (first, last))
                running = first.start(Channels(2), rate_hz, latency)
                out = []
                for begin in range(0, frames, PIECE):
                    now = first if begin < 2 * rate_hz else last
                    before = first if begin <= 2 * rate_hz else last
                    block = sound[:, begin : begin + PIECE]
                    out.append(running.process(block, Motion((0, PIECE), (before, now)), begin))
                got = np.concatenate(out, axis=1)
                levels = [
                    float(np.sqrt(np.mean(got[:, k : k + rate_hz // 20] ** 2)))
                    for k in range(rate_hz, frames - rate_hz // 20, rate_hz // 20)
                ]
                with self.subTest(rate_hz=rate_hz, kind=first.kind):
                    self.assertGreater(20 * np.log10(min(levels) / max(levels)), -6.1)

    def test_an_object_that_flies_half_a_kilometre_away(self) -> None:
        """At a steady speed: its pitch is lowered by 1 / (1 + v / c), and nothing else happens."""
        for rate_hz in (48000, 96000):
            seconds = np.arange(10 * rate_hz) / rate_hz
            self.write(f"{rate_hz}.wav", tone(seconds), rate_hz)
            placement = {"mode": "object", "sphere_m": 50.0, "travel": True}
            points = [{"t_s": 0.0, "value": 0.0}, {"t_s": 10.0, "value": 10.0}]
            track = {"sound": f"{rate_hz}.wav", "placement": placement}
            mix = self.mix(
                [track],
                automation=[{"target": "t0/placement/distance", "points": points}],
                sample_rate_hz=rate_hz,
            )
            got = self.rendered(mix, "0+1+0")[0]
            speed = 50.0 / SPEED_OF_SOUND_M_S
            left = seconds / (1.0 + speed)
            wanted = 0.5 * np.sin(2.0 * np.pi * HERTZ * left)
            span = slice(rate_hz, 9 * rate_hz)
            gain = np.dot(got[span], wanted[span]) / np.dot(wanted[span], wanted[span])
            off = got[: len(wanted)][span] - gain * wanted[span]
            with self.subTest(rate_hz):
                self.assertLess(np.abs(off).max(), 2e-3 * abs(gain))
