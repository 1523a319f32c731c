"""A delay of whole samples."""

import numpy as np

from metaphon.core.dsp.block import Block


class DelayLine:
    """Gives back what it took so many frames before; silence at first.

    Parameters
    ----------
    channels : int
        How many channels its blocks have.
    frames : int
        The delay in samples, 0 or more.
    """

    def __init__(self, channels: int, frames: int) -> None:
        self._held = np.zeros((channels, frames), dtype=np.float32)

    def process(self, block: Block) -> Block:
        """Take and give (channels, frames), of any length."""
        late = self._held.shape[1]
        if not late:
            return block
        joined = np.concatenate([self._held, block], axis=1)
        self._held = joined[:, block.shape[1] :]
        return joined[:, : block.shape[1]]
