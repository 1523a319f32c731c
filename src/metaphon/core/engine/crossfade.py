"""Changing what works on a sound while it passes, without a click."""

from functools import lru_cache
from typing import Generic, Protocol, TypeVar

import numpy as np

from metaphon.core.dsp.block import Block
from metaphon.core.dsp.motion import PIECE


def fade_in(frames: int) -> Block:
    """A straight line from just above 0 to 1, over a grid step at most.

    Soon heard, and no click.
    """
    length = min(frames, PIECE)
    return np.minimum(np.arange(1, frames + 1, dtype=np.float32) / length, 1.0).astype(np.float32)


@lru_cache(64)
def _soon(frames: int) -> Block:
    """From 0 to 1 in half a grid step, 11 ms at 48 kHz: a half wave of a cosine, without a corner.

    For what has no memory, and so is at once what it is to be.
    """
    place = np.minimum(np.arange(1, frames + 1) / min(frames, PIECE // 2), 1.0)
    found = (0.5 - 0.5 * np.cos(np.pi * place)).astype(np.float32)
    found.setflags(write=False)  # it is the same for all
    return found


class Memoryless(Protocol):
    """What works on a block by its place in the mix alone."""

    def apply(self, block: Block, first: int) -> Block:
        """Apply it to a block that begins at a frame of the mix."""


class Adding(Memoryless, Protocol):
    """What can add what it makes to what is there."""

    def add(self, out: Block, block: Block, first: int) -> None:
        """Add what `apply` gives."""


M = TypeVar("M", bound=Memoryless)
A = TypeVar("A", bound=Adding)


class Passing(Generic[M]):
    """Something without memory that may be replaced; it passes over within the next block."""

    def __init__(self, now: M) -> None:
        self._now = now
        self._next: M | None = None

    def to(self, following: M) -> None:
        """Let another take over in the next block."""
        self._next = following

    def apply(self, block: Block, first: int) -> Block:
        """Apply it to a block that begins at a frame of the mix."""
        out = self._now.apply(block, first)
        if self._next is not None:
            self._now, self._next = self._next, None
            out = out + (self._now.apply(block, first) - out) * _soon(block.shape[1])
        return out

    def add(self: "Passing[A]", out: Block, block: Block, first: int) -> None:
        """Add to `out` what `apply` gives."""
        if self._next is None:
            self._now.add(out, block, first)
        else:
            out += self.apply(block, first)
