"""Pieces of sound whose ends overlap, added up to a stream."""

import numba
import numpy as np
from numpy.typing import NDArray

from metaphon.core.dsp.block import Block


class OverlapAdd:
    """Adds up pieces that each reach over the beginning of those that follow.

    Parameters
    ----------
    channels : int
        How many channels the pieces have.
    size : int
        The length of a piece in frames, `step` or more.
    step : int
        How many frames apart the pieces begin.

    Notes
    -----
    Source: Oppenheim & Schafer, section 8.7.3 (the overlap-add method).
    """

    def __init__(self, channels: int, size: int, step: int) -> None:
        self._size = size
        self._step = step
        self._carry = np.zeros((channels, size - step), dtype=np.float32)

    @property
    def rings(self) -> bool:
        """Whether anything is left of the pieces before."""
        return bool(self._carry.any())

    def add(self, pieces: NDArray[np.float32]) -> Block:
        """Take (channels, pieces, size) and give (channels, pieces * step)."""
        step, frames = self._step, pieces.shape[1] * self._step
        out = np.zeros((len(pieces), frames + self._carry.shape[1]), dtype=np.float32)
        out[:, : self._carry.shape[1]] = self._carry
        _add_up(np.ascontiguousarray(pieces), step, out)
        self._carry = out[:, frames:].copy()
        return out[:, :frames]


@numba.njit(cache=True, nogil=True)
def _add_up(pieces, step, out):  # type: ignore[no-untyped-def]
    """Add (channels, pieces, size) to `out`, (channels, frames), each a step behind the former."""
    for channel in range(len(pieces)):
        for n in range(pieces.shape[1]):
            piece = pieces[channel, n]
            into = out[channel, n * step : n * step + len(piece)]
            for i in range(len(piece)):
                into[i] += piece[i]
