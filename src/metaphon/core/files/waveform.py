"""The highest and lowest samples of a recording in equal stretches, for drawing it at any zoom."""

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from metaphon.core.files.audio import ClipReader
from metaphon.core.presence import present
from metaphon.core.sound_file import open_sound

BASE = 8  # stretches of 2 to the power of this many frames are kept
TILE = 512  # stretches in one part of a drawing
_FULL = 32767
_BLOCK = 1 << 16
Peaks = NDArray[np.int16]


def measure_peaks(recording: Path, into: Path) -> None:
    """Read a recording through and keep the peaks of stretches of 256 frames.

    Parameters
    ----------
    recording
        Any file that can be read; its channels are drawn as one.
    into
        Where the peaks go: an array (stretches, 2), lowest and highest, 32767 at full scale.
    """
    found = []
    with open_sound(recording) as file:
        while len(block := file.read(_BLOCK, dtype="float32", always_2d=True)):
            found.append(_extremes(block, 1 << BASE))
    np.save(into, np.concatenate(found) if found else np.zeros((0, 2), dtype=np.int16))


def tile(recording: Path, peaks: Path, exponent: int, number: int) -> Peaks:
    """A part of the drawing of a recording.

    Parameters
    ----------
    recording, peaks
        The file, and what `measure_peaks` kept of it.
    exponent
        Each stretch is 2 to this power frames long, 0 to 24.
    number
        Which part, counted from 0, of TILE stretches each.

    Returns
    -------
        Lowest and highest sample of each stretch, (stretches, 2), fewer than TILE at the end.
    """
    if exponent < BASE:
        reader = ClipReader(recording)
        first = number * TILE << exponent
        count = min(TILE << exponent, max(reader.frames - first, 0))
        block = reader.read(first, count).T
        reader.close()
        return _extremes(block, 1 << exponent)
    kept = np.load(present(peaks), mmap_mode="r")
    each = 1 << (exponent - BASE)
    part = np.array(kept[number * TILE * each : (number + 1) * TILE * each])
    return _grouped(part[:, 0], part[:, 1], each)


def _extremes(block: NDArray[np.float32], each: int) -> Peaks:
    whole = np.clip(np.rint(block * _FULL), -_FULL, _FULL).astype(np.int16)
    return _grouped(whole.min(axis=1, initial=_FULL), whole.max(axis=1, initial=-_FULL), each)


def _grouped(low: Peaks, high: Peaks, each: int) -> Peaks:
    if len(low) == 0:
        return np.zeros((0, 2), dtype=np.int16)
    edges = np.arange(0, len(low), each)
    return np.stack([np.minimum.reduceat(low, edges), np.maximum.reduceat(high, edges)], axis=1)
