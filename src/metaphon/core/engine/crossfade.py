"""Changing what works on a sound while it passes: the new takes the input over, the old rings out.

Nothing clicks.
"""

from collections.abc import Sequence
from typing import Generic, Protocol, TypeVar

import numpy as np

from metaphon.core.dsp.block import Block
from metaphon.core.engine.automation import GRID_FRAMES
from metaphon.core.process.processor import Running


class Working(Protocol):
    """A processor at work, which may need to know its place in the mix."""

    def process(self, block: Block, *place: int) -> Block:
        """Take and give (channels, frames); `place` is what the part asks for beside."""


class Placed(Protocol):
    """What works on a block by its place in the mix, with a memory of what went before."""

    def process(self, block: Block, at: int) -> Block:
        """Take and give (channels, frames) that begin at frame `at` of the mix."""


R = TypeVar("R", bound=Running | Working | Placed)

_MOST_RINGING = 2
_QUIET = 1e-6  # -120 dBFS


def fade_in(frames: int) -> Block:
    """A straight line from just above 0 to 1, over a grid step at most.

    Soon heard, and no click.
    """
    length = min(frames, GRID_FRAMES)
    return np.minimum(np.arange(1, frames + 1, dtype=np.float32) / length, 1.0).astype(np.float32)


class Crossfade(Generic[R]):
    """Something at work that may be replaced.

    In the block after `replace` the input passes from the old to the new in a straight line; the
    old is then fed silence until its tail is over. Every processor is linear, so the sum has no
    step in it.
    """

    def __init__(self, running: R) -> None:
        self.now = running
        self._next: tuple[R, int] | None = None
        self._ringing: list[tuple[R, int]] = []

    def replace(self, running: R, tail_frames: int) -> None:
        """Let another take over; `tail_frames` is how long the old one may still sound."""
        self._next = (running, tail_frames)

    def process(self, block: Block, *place: int) -> Block:
        """Take and give (channels, frames).

        `place` is handed on to what works by its place in the mix.
        """
        if self._next is None and not self._ringing:
            return self.now.process(block, *place)
        frames = block.shape[1]
        out = np.zeros_like(block)
        if len(self._ringing) > _MOST_RINGING:
            oldest, _ = self._ringing.pop(0)
            out += oldest.process(np.zeros_like(block), *place) * (1.0 - fade_in(frames))
        left = []
        for old, tail in self._ringing:
            part = old.process(np.zeros_like(block), *place)
            out += part
            if tail > frames or np.abs(part).max() > _QUIET:
                left.append((old, tail - frames))
        self._ringing = left
        if self._next is None:
            return out + self.now.process(block, *place)
        new, tail = self._next
        rising = block * fade_in(frames)
        out += self.now.process(block - rising, *place)
        self._ringing.append((self.now, tail))
        self.now, self._next = new, None
        return out + new.process(rising, *place)

    @property
    def at_rest(self) -> bool:
        """Whether nothing is being replaced or ringing."""
        return self._next is None and not self._ringing

    @property
    def latest(self) -> R:
        """What works now, or takes over in the next block."""
        return self._next[0] if self._next else self.now


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


class Series(Generic[R]):
    """Several at work one after the other."""

    def __init__(self, parts: Sequence[R]) -> None:
        self.parts = parts

    def process(self, block: Block, *place: int) -> Block:
        """Take and give (channels, frames); `place` is what the part asks for beside."""
        for part in self.parts:
            block = part.process(block, *place)
        return block
