"""Channels made unlike each other, each by a filter of its own."""

import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft, next_fast_len, rfft

from metaphon.core.dsp.block import Block
from metaphon.core.dsp.overlap_add import OverlapAdd
from metaphon.core.engine.automation import GRID_FRAMES


class Decorrelator:
    """Every channel through a filter of its own, (channels, taps), in pieces of one grid step."""

    def __init__(self, filters: NDArray[np.float32]) -> None:
        self._size = next_fast_len(GRID_FRAMES + filters.shape[1] - 1, real=True)
        self._spectra = rfft(filters, self._size).astype(np.complex64)[:, None]
        self._overlap_add = OverlapAdd(len(filters), self._size, GRID_FRAMES)

    def process(self, block: Block) -> Block:
        """Take and give (channels, frames), going on from the block before."""
        pieces = rfft(block.reshape(len(block), -1, GRID_FRAMES), self._size) * self._spectra
        return self._overlap_add.add(irfft(pieces, self._size))
