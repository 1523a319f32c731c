"""What lies between a mix and the ears: workings one after the other, replaced without a click."""

from collections.abc import Sequence
from typing import Protocol

import numpy as np

from metaphon.core.dsp.block import Block
from metaphon.core.engine.crossfade import fade_in

_MOST_RINGING = 2
_QUIET = 1e-6  # -120 dBFS


class Working(Protocol):
    """Something on the way to the ears, with its memory."""

    def process(self, block: Block) -> Block:
        """Take and give (channels, frames)."""


class Series:
    """Several at work one after the other."""

    def __init__(self, parts: Sequence[Working]) -> None:
        self.parts = parts

    def process(self, block: Block) -> Block:
        """Take and give (channels, frames)."""
        for part in self.parts:
            block = part.process(block)
        return block


class Crossfade:
    """Something at work that may be replaced.

    In the block after `replace` the input passes from the old to the new in a straight line; the
    old is then fed silence until its tail is over. All is linear here, so the sum has no step.
    """

    def __init__(self, now: Working) -> None:
        self._now = now
        self._next: tuple[Working, int] | None = None
        self._ringing: list[tuple[Working, int]] = []

    def replace(self, following: Working, tail_frames: int) -> None:
        """Let another take over; `tail_frames` is how long the old one may still sound."""
        self._next = (following, tail_frames)

    def process(self, block: Block) -> Block:
        """Take and give (channels, frames)."""
        if self._next is None and not self._ringing:
            return self._now.process(block)
        frames = block.shape[1]
        out = np.zeros_like(block)
        if len(self._ringing) > _MOST_RINGING:
            oldest, _ = self._ringing.pop(0)
            out += oldest.process(np.zeros_like(block)) * (1.0 - fade_in(frames))
        left = []
        for old, tail in self._ringing:
            part = old.process(np.zeros_like(block))
            out += part
            if tail > frames or np.abs(part).max() > _QUIET:
                left.append((old, tail - frames))
        self._ringing = left
        if self._next is None:
            return out + self._now.process(block)
        new, tail = self._next
        rising = block * fade_in(frames)
        out += self._now.process(block - rising)
        self._ringing.append((self._now, tail))
        self._now, self._next = new, None
        return out + new.process(rising)
