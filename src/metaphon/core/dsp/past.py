"""What has gone by of a sound: kept as it comes, and put together only as far as is looked back."""

from collections import deque

import numpy as np

from metaphon.core.dsp.block import Block


class Past:
    """The last so many samples of a sound, before which was silence.

    Parameters
    ----------
    channels : int
        How many channels its blocks have.
    longest : int
        How many samples are kept. They are not copied, so it costs little to keep many.
    """

    def __init__(self, channels: int, longest: int) -> None:
        self._channels = channels
        self._longest = longest
        self._blocks: deque[Block] = deque()
        self._frames = 0

    def pass_by(self, block: Block) -> None:
        """Keep a block, (channels, frames), that nobody looks back from."""
        self._blocks.append(block)
        self._frames += block.shape[1]
        while self._frames - self._blocks[0].shape[1] >= self._longest:
            self._frames -= self._blocks.popleft().shape[1]

    def joined(self, block: Block, back: int) -> Block:
        """So many samples before a block and the block, (channels, back + frames); it is kept."""
        parts = [block]
        missing = back
        for earlier in reversed(self._blocks):
            if missing <= 0:
                break
            parts.append(earlier[:, max(earlier.shape[1] - missing, 0) :])
            missing -= parts[-1].shape[1]
        if missing > 0:
            parts.append(np.zeros((self._channels, missing), dtype=np.float32))
        self.pass_by(block)
        return np.concatenate(parts[::-1], axis=1)
