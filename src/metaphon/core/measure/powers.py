"""Sums of squares and products of channels, stretch by stretch."""

import numba
import numpy as np
from numpy.typing import NDArray

from metaphon.core.dsp.block import Block


def sums_of_products(block: Block, step: int) -> NDArray[np.float64]:
    """The sums of squares of each channel, and of the product of the first two.

    Parameters
    ----------
    block
        (channels, frames).
    step
        Frames that are summed together; what is left over at the end is left out.

    Returns
    -------
        (stretches, channels + 1), the product last; 0 for one channel.
    """
    found = np.zeros((block.shape[1] // step, len(block) + 1))
    _sum(np.ascontiguousarray(block), step, found)
    return found


@numba.njit(cache=True, nogil=True, fastmath={"contract", "reassoc"})
def _sum(block, step, found):  # type: ignore[no-untyped-def]
    channels = len(block)
    for n in range(len(found)):
        for channel in range(channels):
            sound = block[channel, n * step : (n + 1) * step]
            total = 0.0
            for i in range(len(sound)):
                total += np.float64(sound[i]) * np.float64(sound[i])
            found[n, channel] = total
        if channels > 1:
            one, two = block[0, n * step : (n + 1) * step], block[1, n * step : (n + 1) * step]
            total = 0.0
            for i in range(len(one)):
                total += np.float64(one[i]) * np.float64(two[i])
            found[n, channels] = total
