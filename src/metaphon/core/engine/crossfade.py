"""Changing what works on a sound while it passes, without a click."""

from typing import Protocol

import numpy as np

from metaphon.core.dsp.block import Block
from metaphon.core.dsp.motion import PIECE


def fade_in(frames: int) -> Block:
    """A straight line from just above 0 to 1, over a grid step at most.

    Soon heard, and no click.
    """
    length = min(frames, PIECE)
    return np.minimum(np.arange(1, frames + 1, dtype=np.float32) / length, 1.0).astype(np.float32)


class Memoryless(Protocol):
    """What works on a block by its place in the mix alone."""

    def apply(self, block: Block, first: int) -> Block:
        """Apply it to a block that begins at a frame of the mix."""


class Passing:
    """Something without memory that may be replaced; it passes over within the next block."""

    def __init__(self, now: Memoryless) -> None:
        self._now = now
        self._next: Memoryless | None = None

    def to(self, following: Memoryless) -> None:
        """Let another take over in the next block."""
        self._next = following

    def apply(self, block: Block, first: int) -> Block:
        """Apply it to a block that begins at a frame of the mix."""
        out = self._now.apply(block, first)
        if self._next is not None:
            self._now, self._next = self._next, None
            out = out + (self._now.apply(block, first) - out) * fade_in(block.shape[1])
        return out
