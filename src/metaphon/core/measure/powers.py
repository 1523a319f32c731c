"""Sums of squares and products of channels, stretch by stretch."""

import numba
import numpy as np
from numpy.typing import NDArray

from metaphon.core.dsp.block import Block

PIECE = 1024  # samples whose sum is as exact in 32 bits as anybody reads it


def sums(block: Block) -> NDArray[np.float64]:
    """The sum of each channel of a block, (channels, frames)."""
    found = np.zeros(len(block))
    _add_up(np.ascontiguousarray(block), found)
    return found


@numba.njit(cache=True, nogil=True)
def _add_up(block, found):  # type: ignore[no-untyped-def]
    for channel in range(len(block)):
        for start in range(0, block.shape[1], PIECE):
            found[channel] += sums_of(block[channel, start : start + PIECE])[0]


@numba.njit(cache=True, nogil=True, fastmath={"contract", "reassoc"})
def sums_of(sound):  # type: ignore[no-untyped-def]
    """The sum of a stretch of samples of no more than a PIECE, and that of their squares."""
    total = squares = np.float32(0.0)
    for i in range(len(sound)):
        total += sound[i]
        squares += sound[i] * sound[i]
    return np.float64(total), np.float64(squares)


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
