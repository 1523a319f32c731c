"""Filtering in pieces of one grid step, whose ends overlap."""

import numpy as np
from numpy.typing import NDArray

from metaphon.core.engine.automation import GRID_FRAMES
from metaphon.core.process.processor import Block


class OverlapAdd:
    """Adds up pieces, (channels, pieces, size), that overlap from one grid step to the next."""

    def __init__(self, channels: int, size: int) -> None:
        self._size = size
        self._carry = np.zeros((channels, size - GRID_FRAMES), dtype=np.float32)

    def add(self, pieces: NDArray[np.float32]) -> Block:
        frames = pieces.shape[1] * GRID_FRAMES
        out = np.zeros((len(pieces), frames + self._carry.shape[1]), dtype=np.float32)
        out[:, : self._carry.shape[1]] = self._carry
        for i in range(pieces.shape[1]):
            out[:, i * GRID_FRAMES : i * GRID_FRAMES + self._size] += pieces[:, i]
        self._carry = out[:, frames:].copy()
        return out[:, :frames]
