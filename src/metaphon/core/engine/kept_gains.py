"""Gains that were found in one render, read from their file by another."""

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from metaphon.core.files.audio import ClipReader


class KeptGains:
    """What one processor was turned down by, at any frame.

    Parameters
    ----------
    path
        A file with one channel a processor.
    begins
        The frame that the file begins at.
    channel
        Which of its channels, from 0 on.
    """

    def __init__(self, path: Path, begins: int = 0, channel: int = 0) -> None:
        self._reader = ClipReader(path)
        self._begins = begins
        self._channel = channel

    def read(self, first: int, frames: int) -> NDArray[np.float32]:
        """Gains, (frames), from a frame on; 1 outside of what was kept."""
        gains = np.ones(frames, dtype=np.float32)
        start = max(first - self._begins, 0)
        stop = min(first + frames - self._begins, self._reader.frames)
        if start < stop:
            kept = self._reader.read(start, stop - start)[self._channel]
            gains[start + self._begins - first :][: stop - start] = kept
        return gains

    def close(self) -> None:
        """Let go of the file."""
        self._reader.close()
