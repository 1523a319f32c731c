"""From one sample rate to another: flat almost up to half the lower rate, and nothing beyond it."""

from functools import lru_cache
from math import gcd

import numba
import numpy as np
import soxr
from numpy.typing import NDArray
from scipy.signal import kaiser_beta

from metaphon.core.dsp.block import Block

_PASSED = 0.955  # of half the lower rate
_DOWN_DB = 147.0
_MOST_PHASES = 2000  # rates with less in common go by a general-purpose converter


class Resampler:
    """A sound at another rate, block by block; as many frames come out as the ratio says.

    Linear phase and no delay: the first frame stays the first. By a windowed sinc (Kaiser) for each
    place between two samples that comes up (R. E. Crochiere & L. R. Rabiner, Multirate digital
    signal processing, 1983).

    Parameters
    ----------
    channels : int
        How many channels its blocks have.
    from_hz, to_hz : int
        Samples a second, before and after.
    """

    def __init__(self, channels: int, from_hz: int, to_hz: int) -> None:
        common = gcd(from_hz, to_hz)
        self._up, self._down = to_hz // common, from_hz // common
        self._channels = channels
        self._taken = self._given = 0
        self._general = None
        if self._up > _MOST_PHASES:
            self._general = soxr.ResampleStream(from_hz, to_hz, channels, quality="VHQ")
            return
        self._bank = _bank(self._up, self._down)
        self._half = self._bank.shape[1] // 2
        self._held = np.zeros((channels, self._half), dtype=np.float32)
        self._first = -self._half  # the frame that is held first

    def process(self, block: Block) -> Block:
        """Take (channels, frames) and give what is ready of it."""
        self._taken += block.shape[1]
        if self._general is not None:
            return self._by_general(block, last=False)
        return self._ready(block, self._taken - self._half)

    def finish(self) -> Block:
        """Give the rest, up to as many frames in all as the ratio says."""
        wanted = round(self._taken * self._up / self._down)
        if self._general is not None:
            rest = self._by_general(np.zeros((self._channels, 0), dtype=np.float32), last=True)
        else:
            silence = np.zeros((self._channels, 2 * self._half), dtype=np.float32)
            rest = self._ready(silence, self._taken + self._half)
        left = wanted - (self._given - rest.shape[1])
        return np.pad(rest[:, :left], ((0, 0), (0, max(left - rest.shape[1], 0))))

    def _ready(self, block: Block, known: int) -> Block:
        """What can be worked out now that all frames before one are known on both sides."""
        sound = np.concatenate([self._held, np.asarray(block, dtype=np.float32)], axis=1)
        last = max(-(-known * self._up // self._down), self._given)  # the first that is not ready
        out = np.empty((self._channels, last - self._given), dtype=np.float32)
        _convert(sound, self._bank, self._up, self._down, self._given, self._first, out)
        self._given = last
        kept = max(last * self._down // self._up - self._half - self._first, 0)
        self._held = np.ascontiguousarray(sound[:, kept:])
        self._first += kept
        return out

    def _by_general(self, block: Block, last: bool) -> Block:
        assert self._general is not None
        fresh = self._general.resample_chunk(np.ascontiguousarray(block.T), last=last)
        self._given += len(fresh)
        return np.ascontiguousarray(fresh.T)


def resampled(sound: NDArray[np.floating], from_hz: int, to_hz: int) -> Block:
    """A whole sound, (channels, frames), at another rate."""
    if from_hz == to_hz:
        return np.asarray(sound, dtype=np.float32)
    at_work = Resampler(len(sound), from_hz, to_hz)
    parts = [at_work.process(np.asarray(sound, dtype=np.float32)), at_work.finish()]
    return np.concatenate(parts, axis=1)


@lru_cache(16)
def _bank(up: int, down: int) -> NDArray[np.float32]:
    """The weights for each place between two samples, (up, taps)."""
    lower = min(1.0, up / down)  # half the lower rate, as a part of half the rate before
    edge = lower * (1.0 - _PASSED)
    half = int(np.ceil((_DOWN_DB - 8.0) / (2.285 * np.pi * edge) / 2.0)) + 1
    away = np.arange(-half, half + 1)[None, :] + np.arange(up)[:, None] / up
    window = np.i0(kaiser_beta(_DOWN_DB) * np.sqrt(np.maximum(1.0 - (away / (half + 1)) ** 2, 0.0)))
    cutoff = lower * (1.0 + _PASSED) / 2.0
    bank = cutoff * np.sinc(cutoff * away) * window / np.i0(kaiser_beta(_DOWN_DB))
    bank /= bank.sum(axis=1, keepdims=True)
    return np.ascontiguousarray(bank[:, ::-1].astype(np.float32))


@numba.njit(cache=True, nogil=True, fastmath=True)
def _convert(sound, bank, up, down, given, first, out):  # type: ignore[no-untyped-def]
    """Fill in frames of the new rate, (channels, frames), from the frame `given` on.

    `sound`, (channels, frames), begins at the frame `first` of the old rate, and has all that is
    needed on either side.
    """
    taps = bank.shape[1]
    half = taps // 2
    for n in range(out.shape[1]):
        place = (given + n) * down
        begin = place // up - half - first
        weights = bank[place % up]
        for channel in range(len(sound)):
            total = np.float32(0.0)
            x = sound[channel, begin : begin + taps]
            for k in range(taps):
                total += weights[k] * x[k]
            out[channel, n] = total
