"""A track drawn over a span of the mix, at any zoom, from what is kept of its recordings."""

from collections.abc import Callable
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from metaphon.core.checks.sound import Sound
from metaphon.core.document.mix import Track
from metaphon.core.engine.clips import Placed, placed
from metaphon.core.files.waveform import BASE
from metaphon.core.presence import present

COLUMNS = 800
_FULL = 32767.0

PeaksOf = Callable[[Path], Path]  # where the peaks of a recording are kept
Extremes = NDArray[np.float64]  # (2, columns): lowest and highest


def extremes(
    sound: Sound, track: Track, side: str, peaks_of: PeaksOf, start: int, frames: int
) -> Extremes:
    """Lowest and highest sample in each of COLUMNS stretches from a frame of the mix on.

    Far out they come from the peaks that are kept, all channels as one; near by from the samples
    of the side.
    """
    if frames < COLUMNS << BASE:
        samples = sound.side(track, side, start, frames)
        edges = np.linspace(0, frames, COLUMNS, endpoint=False).astype(int)
        if frames < COLUMNS:
            samples = np.repeat(samples, -(-COLUMNS // frames))[:COLUMNS]
            edges = np.arange(COLUMNS)
        return np.stack([np.minimum.reduceat(samples, edges), np.maximum.reduceat(samples, edges)])
    total = np.zeros((2, COLUMNS))
    for clip in placed(track, sound.rate_hz):
        total += _of_clip(clip, np.load(present(peaks_of(clip.path)), mmap_mode="r"), start, frames)
    return total


def loudest_column(power: NDArray[np.float64], columns: int) -> int:
    """Where, of COLUMNS in a row, so many together have most of a power; the first if none fit."""
    sums = np.concatenate([[0.0], np.cumsum(power)])
    return int(np.argmax(sums[columns:] - sums[:-columns])) if columns < COLUMNS else 0


def _of_clip(clip: Placed, kept: NDArray[np.int16], start: int, frames: int) -> Extremes:
    each = frames / COLUMNS
    edges = start + np.arange(COLUMNS + 1) * each - clip.first  # in the clip
    inside = (edges[1:] > 0) & (edges[:-1] < clip.frames)
    places = ((np.clip(edges, 0, clip.frames) + clip.skipped) / (1 << BASE)).astype(int)
    places = np.minimum(places, len(kept) - 1)
    found = np.zeros((2, COLUMNS))
    if inside.any() and len(kept):
        first, last = places[:-1][inside][0], places[1:][inside][-1] + 1
        part = np.asarray(kept[first:last], dtype=np.float64) * (clip.gain / _FULL)
        at = places[:-1][inside] - first
        found[0, inside] = np.minimum.reduceat(part[:, 0], at)
        found[1, inside] = np.maximum.reduceat(part[:, 1], at)
    return found


def as_path(found: Extremes, height: float) -> str:
    """A closed shape COLUMNS wide about 0, its loudest sample `height` high."""
    scale = height / max(float(np.abs(found).max()), 1e-9)
    low, high = -found[0] * scale, -found[1] * scale
    upper = " ".join(f"{x} {y:.1f}" for x, y in enumerate(high))
    lower = " ".join(f"{x} {y:.1f}" for x, y in reversed(list(enumerate(low))))
    return f"M{upper} L{lower}Z"
