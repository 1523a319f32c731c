"""A delay of any part of a sample, which may move: sound is read between its samples.

The interpolator is a sinc of 32 samples under a Kaiser window (beta 10): flat within 0.01 dB up to
0.8 of half the rate (19.2 kHz of 48), its images more than 95 dB down there. A whole number of
samples passes as it is.
"""

from functools import lru_cache

import numba
import numpy as np
from numpy.typing import NDArray

from metaphon.core.dsp.block import Block
from metaphon.core.dsp.motion import Motion
from metaphon.core.dsp.past import Past

HALF = 16  # samples of the interpolator on either side: the least delay that is no whole number
STEEPEST = 0.25  # samples a sample: four and a half semitones
_FRACTIONS = 1024
_BETA = 10.0


class FractionalDelay:
    """Gives back what it took so many samples before.

    A delay that moves slowly bends the pitch, as a source does that comes or goes; one that moves
    faster than STEEPEST passes over from the old place to the new.

    Parameters
    ----------
    channels : int
        How many channels its blocks have.
    longest : float
        The longest delay it will be asked for, in samples: so much of the sound is kept at any
        delay, as a longer one has something to read then.
    """

    def __init__(self, channels: int, longest: float) -> None:
        self._past = Past(channels, int(np.ceil(longest)) + HALF)

    def process(self, block: Block, delay: Motion[float]) -> Block:
        """Take and give (channels, frames).

        `delay` is in samples, 0 or more; what is no whole number is HALF at least.
        """
        if not delay.moves and delay.values[0].is_integer():
            return self._later(block, int(delay.values[0]))
        frames, delays = delay.arrays()
        if np.any(delays < HALF):  # not to be read between samples
            delays = np.where(delays < HALF, np.round(delays), delays)
        slopes = np.diff(delays) / np.maximum(np.diff(frames), 1)
        steep = (np.abs(slopes) > STEEPEST) | (np.minimum(delays[:-1], delays[1:]) < HALF)
        if not np.any(steep & (slopes != 0.0)):
            here = np.interp(np.arange(block.shape[1]), frames, delays)
            out: Block = _read(self._joined(block, here.max()), len(here), here, _table())
            return out
        return self._passing_over(block, frames, delays, steep)

    def _later(self, block: Block, whole: int) -> Block:
        if not whole:
            self._past.pass_by(block)
            return block
        joined = self._past.joined(block, whole)
        return np.ascontiguousarray(joined[:, : block.shape[1]])

    def _passing_over(
        self,
        block: Block,
        frames: NDArray[np.int64],
        delays: NDArray[np.float64],
        steep: NDArray[np.bool_],
    ) -> Block:
        joined = self._joined(block, float(delays.max()))
        at = np.arange(block.shape[1])
        segment = np.clip(np.searchsorted(frames, at, side="right") - 1, 0, len(steep) - 1)
        steep = steep[segment]
        here = np.interp(at, frames, delays)
        out = _read(joined, len(at), np.where(steep, delays[segment], here), _table())
        after = _read(joined, len(at), np.where(steep, delays[segment + 1], here), _table())
        span = np.maximum(frames[segment + 1] - frames[segment], 1)
        along = np.clip((at - frames[segment]) / span, 0.0, 1.0).astype(np.float32)
        passed: Block = out + (after - out) * along
        return passed

    def _joined(self, block: Block, most: float) -> Block:
        """The block, and before it as much as a delay reads."""
        return self._past.joined(block, int(np.ceil(most)) + HALF)


@lru_cache(maxsize=1)
def _table() -> NDArray[np.float64]:
    """Kernels that read between samples, (fractions + 2, taps)."""
    fractions = np.arange(_FRACTIONS + 2)[:, None] / _FRACTIONS
    place = np.arange(1 - HALF, HALF + 1) - fractions
    inside = np.maximum(1.0 - (place / HALF) ** 2, 0.0)
    window = np.i0(_BETA * np.sqrt(inside)) / np.i0(_BETA)
    table = np.sinc(place) * window
    result: NDArray[np.float64] = table / table.sum(axis=1, keepdims=True)
    return result


@numba.njit(cache=True, nogil=True, fastmath={"contract"})
def _read(joined, frames, delays, table):  # type: ignore[no-untyped-def]
    """Read the last `frames` of `joined`, (channels, all), so many samples before each.

    Between two kernels of the table the kernel runs straight.
    """
    taps = table.shape[1]
    begin = joined.shape[1] - frames
    out = np.empty((len(joined), frames), dtype=np.float32)
    kernel = np.empty(taps)
    for i in range(frames):
        up = np.ceil(delays[i])  # by the delay alone, so that it is the same in any block
        whole = begin + i - int(up)
        fraction = (up - delays[i]) * (len(table) - 2)
        row = int(fraction)
        along = fraction - row
        if row == 0 and along == 0.0:
            for c in range(len(out)):
                out[c, i] = joined[c, whole]
            continue
        for t in range(taps):
            kernel[t] = table[row, t] + (table[row + 1, t] - table[row, t]) * along
        first = whole + 1 - taps // 2
        last = min(taps, joined.shape[1] - first)
        for c in range(len(out)):
            total = 0.0
            for t in range(max(0, -first), last):
                total += joined[c, first + t] * kernel[t]
            out[c, i] = total
    return out
