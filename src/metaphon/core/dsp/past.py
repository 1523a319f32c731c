"""What has gone by of a sound: kept as it comes, and put together only when it is looked at."""

import numpy as np

from metaphon.core.dsp.block import Block


class Past:
    """The last so many samples of a sound.

    Parameters
    ----------
    channels, frames
        How many channels its blocks have, and how many samples are kept.
    """

    def __init__(self, channels: int, frames: int) -> None:
        self._held = np.zeros((channels, frames), dtype=np.float32)
        self._since: list[Block] = []  # what came after that and has not been joined to it

    @property
    def frames(self) -> int:
        """How many samples are kept."""
        return self._held.shape[1]

    def pass_by(self, block: Block) -> None:
        """Keep a block, (channels, frames), that nobody looks back from."""
        self._since.append(block)
        if sum(one.shape[1] for one in self._since[1:]) >= self.frames:
            del self._since[0]

    def joined(self, block: Block) -> Block:
        """What is kept and a block after it, which is kept from now on."""
        self._gather()
        joined = np.concatenate([self._held, block], axis=1)
        self._held = joined[:, block.shape[1] :]
        return joined

    def grow(self, frames: int, rise: int) -> None:
        """Keep more: before what was kept is silence, out of which it rises in some samples."""
        self._gather()
        more = np.zeros((len(self._held), frames - self.frames), dtype=np.float32)
        self._held[:, :rise] *= np.linspace(0.0, 1.0, rise, dtype=np.float32)
        self._held = np.concatenate([more, self._held], axis=1)

    def _gather(self) -> None:
        if self._since:
            kept = self.frames
            self._held = np.concatenate([self._held, *self._since], axis=1)[:, -kept:]
            self._since = []
