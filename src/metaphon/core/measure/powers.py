"""Sums of squares and products of channels, stretch by stretch."""

from typing import NamedTuple

import numba
import numpy as np
from numpy.typing import NDArray

from metaphon.core.dsp.block import Block
from metaphon.core.dsp.highest import highest

PIECE = 1024  # samples whose sum is as exact in 32 bits as anybody reads it


class Pieces(NamedTuple):
    """A block in pieces of PIECE samples, (channels, pieces) each.

    The highest sample of each, the sum of its samples and that of their squares.
    """

    highest: NDArray[np.float32]
    sums: NDArray[np.float64]
    squares: NDArray[np.float64]


def pieces_of(block: Block) -> Pieces:
    """A block, (channels, frames), looked at once for all meters."""
    shape = len(block), -(-block.shape[1] // PIECE)
    found = Pieces(np.empty(shape, dtype=np.float32), np.empty(shape), np.empty(shape))
    _look(np.ascontiguousarray(block), *found)
    return found


@numba.njit(cache=True, nogil=True)
def _look(block, tops, sums, squares):  # type: ignore[no-untyped-def]
    for channel in range(len(block)):
        for piece in range(tops.shape[1]):
            sound = block[channel, piece * PIECE : (piece + 1) * PIECE]
            tops[channel, piece] = highest(sound)
            sums[channel, piece], squares[channel, piece] = _sums_of(sound)


@numba.njit(cache=True, nogil=True, fastmath={"contract", "reassoc"})
def _sums_of(sound):  # type: ignore[no-untyped-def]
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


@numba.njit(cache=True, nogil=True)
def _sum(block, step, found):  # type: ignore[no-untyped-def]
    channels = len(block)
    for n in range(len(found)):
        for channel in range(channels):
            sound = block[channel, n * step : (n + 1) * step]
            found[n, channel] = product_of(sound, sound)
        if channels > 1:
            begin, end = n * step, (n + 1) * step
            found[n, channels] = product_of(block[0, begin:end], block[1, begin:end])


@numba.njit(cache=True, nogil=True)
def loudest(block):  # type: ignore[no-untyped-def]
    """The sum of squares of the loudest channel of a block, (channels, frames)."""
    found = 0.0
    for channel in range(len(block)):
        found = max(found, product_of(block[channel], block[channel]))
    return found


@numba.njit(cache=True, nogil=True, fastmath={"contract", "reassoc"})
def product_of(one, two):  # type: ignore[no-untyped-def]
    """The sum of the products of two stretches of samples, (frames) each, in double precision."""
    total = 0.0
    for i in range(len(one)):
        total += np.float64(one[i]) * np.float64(two[i])
    return total
