"""Short excerpts of a mix's recordings for the rules that listen, read once and kept small."""

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from metaphon.core.document.mix import Mix, Track
from metaphon.core.engine.clips import ClipRun, placed
from metaphon.core.engine.levels import Level, levels
from metaphon.core.engine.plan import compile
from metaphon.core.errors import InputError
from metaphon.core.files.audio import probe
from metaphon.core.measure.alignment import Alignment, align
from metaphon.core.measure.powers import sums_of_products

_LONGEST_S = 120.0
_STEPS_A_SECOND = 100
_MOVING_TOGETHER = 0.25
_MOST_LAG = 5
_MOST_TRIED = 4  # pairs of sides that are compared in earnest for two tracks
_ALIKE = 0.6  # likeness above which two recordings are taken for the same event
_COPY = 0.999  # likeness of what is one recording twice: the rest lies 27 dB below
_AT_ONCE_MS = 0.02  # and both begin at once, which no two microphones do
_EXCERPT_S = 10.0
SIDES = {"left": (1.0, 0.0), "right": (0.0, 1.0), "mid": (0.5, 0.5), "side": (0.5, -0.5)}

Part = tuple[str, str]  # a track's id and what of it: "" where it is mono, or a name of SIDES


@dataclass(frozen=True)
class Pair:
    """Two tracks with the same sound, or sides of them.

    How much later the other is (ms), whether it is upside down, as mixed, and whether it is the
    very same recording.
    """

    first: Track
    other: Track
    delay_ms: float
    inverted: bool
    copied: bool
    first_side: str = ""
    other_side: str = ""

    @property
    def first_named(self) -> str:
        """The first in words, with its side."""
        return _named(self.first, self.first_side)

    @property
    def other_named(self) -> str:
        """The other in words, with its side."""
        return _named(self.other, self.other_side)


def _named(track: Track, side: str) -> str:
    return f"the {side} of {track.name}" if side else track.name


class Sound:
    """The recordings of a mix's active tracks as they lie in time.

    Their first two minutes at most.
    """

    def __init__(self, mix: Mix, known: dict[str, Level] | None = None) -> None:
        """Take a mix, and the levels of its strips where they have been measured already."""
        self._mix = mix
        self._known = known
        self.rate_hz = mix.sample_rate_hz
        self.tracks = tuple(
            track for track in mix.tracks if not track.resting and not track.muted and track.clips
        )

    @cached_property
    def levels(self) -> dict[str, Level]:
        """The level of every strip at work, by id; empty where the mix cannot be made ready."""
        if self._known is not None:
            return self._known
        try:
            return levels(compile(self._mix))
        except InputError:
            return {}

    @cached_property
    def alike(self) -> tuple[Pair, ...]:
        """The pairs of mono and stereo tracks that carry one sound, in any of their sides.

        Source: Knapp & Carter 1976.
        """
        return tuple(self._pairs())

    def _pairs(self) -> Iterator[Pair]:
        tracks = {track.id: track for track in self.tracks}
        for candidates in self._could_be_alike():
            best: tuple[Alignment, Part, Part] | None = None
            for one, two in candidates:
                found = self._aligned(one, two)
                if found and (best is None or found.confidence > best[0].confidence):
                    best = found, one, two
            if best is None or best[0].confidence < _ALIKE:
                continue
            found, one, two = best
            first, other = (delay_and_polarity(tracks[i], side) for i, side in (one, two))
            yield Pair(
                tracks[one[0]],
                tracks[two[0]],
                found.delay_ms + other[0] - first[0],
                found.inverted != (first[1] != other[1]),
                found.confidence > _COPY
                and abs(found.delay_ms) < _AT_ONCE_MS
                and not found.inverted,
                one[1],
                two[1],
            )

    @cached_property
    def _powers(self) -> dict[Part, NDArray[np.float64]]:
        """The mean power of mono tracks and of sides of stereo ones, by hundredths of a second.

        The sound itself is not kept.
        """
        step = self.rate_hz // _STEPS_A_SECOND
        found = {}
        for track in self.tracks:
            if self.channels_of(track) > 2:
                continue
            sums = sums_of_products(self.read(track), step).T / step
            if len(sums) == 2:
                found[track.id, ""] = sums[0]
                continue
            for side, (left, right) in SIDES.items():
                power = left * left * sums[0] + right * right * sums[1]
                found[track.id, side] = power + 2.0 * left * right * sums[2]
        return found

    def _could_be_alike(self) -> Iterator[list[tuple[Part, Part]]]:
        """For each two tracks whose levels move together at all, the sides that do so most.

        A quick sieve before they are compared in earnest.
        """
        parts = [part for part, power in self._powers.items() if len(power) > 1 and power.any()]
        if len(parts) < 2:
            return
        rises = [np.diff(np.sqrt(self._powers[part])) for part in parts]
        lengths = np.array([len(rise) for rise in rises])
        table = np.zeros((len(parts), lengths.max()), dtype=np.float32)
        for row, rise in zip(table, rises, strict=True):
            row[: len(rise)] = rise
        together: NDArray[Any] = np.zeros((len(parts), len(parts)), dtype=np.float32)
        for lag in range(_MOST_LAG + 1):
            product = table[:, lag:] @ table[:, : table.shape[1] - lag].T
            together = np.maximum(together, np.maximum(product, product.T))
        # each by its energy while the other sounds
        energy = np.cumsum(table.astype(np.float64) ** 2, axis=1)[:, lengths - 1]
        together = together / np.sqrt(np.maximum(energy * energy.T, 1e-30))
        likely: dict[tuple[int, int], list[tuple[float, Part, Part]]] = {}
        order = {track.id: place for place, track in enumerate(self.tracks)}
        of_track = np.array([order[track_id] for track_id, _ in parts])
        moves = (together > _MOVING_TOGETHER) & (of_track[:, None] < of_track)
        for i, k in np.argwhere(moves):
            pair = int(of_track[i]), int(of_track[k])
            likely.setdefault(pair, []).append((float(together[i, k]), parts[i], parts[k]))
        for pair in sorted(likely):
            ranked = sorted(likely[pair], key=lambda found: -found[0])
            yield [(one, two) for _, one, two in ranked[:_MOST_TRIED]]

    def _aligned(self, one: Part, two: Part) -> Alignment | None:
        a, b = self._powers[one], self._powers[two]
        steps = min(len(a), len(b))
        span = min(steps, round(_EXCERPT_S * _STEPS_A_SECOND))
        if span < _STEPS_A_SECOND // 10:
            return None
        sums = np.concatenate([[0.0], np.cumsum(a[:steps])])
        step = self.rate_hz // _STEPS_A_SECOND
        start = int(np.argmax(sums[span:] - sums[:-span])) * step
        return align(
            self._excerpt(one, start, span * step),
            self._excerpt(two, start, span * step),
            self.rate_hz,
        )

    def _excerpt(self, part: Part, start: int, frames: int) -> NDArray[np.float32]:
        track = next(track for track in self.tracks if track.id == part[0])
        return self.side(track, part[1], start, frames)

    def side(self, track: Track, side: str, start: int, frames: int) -> NDArray[np.float32]:
        """One side of a track, (frames): a name of SIDES, or "" for a mono one or the middle."""
        sound = self.read(track, start, frames)
        if len(sound) == 2:
            left, right = SIDES[side or "mid"]
            one: NDArray[np.float32] = np.float32(left) * sound[0] + np.float32(right) * sound[1]
            return one
        middle: NDArray[np.float32] = sound.mean(axis=0, dtype=np.float32)
        return middle

    def channels_of(self, track: Track) -> int:
        """How many channels a track works with."""
        return track.channels(probe(track.clips[0].file).channels)

    def read(self, track: Track, start: int = 0, frames: int | None = None) -> NDArray[np.float32]:
        """(channels, frames) of a track from a frame of the mix on, its chain not applied.

        Without a length up to its end, or the first two minutes.
        """
        longest = frames or round(_LONGEST_S * self.rate_hz)
        clips = placed(track, self.rate_hz)
        counts = [min(longest, max(clip.first + clip.frames - start, 0)) for clip in clips]
        end = frames or max(counts, default=0)
        total = np.zeros((self.channels_of(track), end), dtype=np.float32)
        for clip, count in zip(clips, counts, strict=True):
            running = ClipRun(clip)
            total[:, :count] += running.read(start, count)
            running.close()
        return total


def delay_and_polarity(track: Track, side: str) -> tuple[float, int]:
    """What the chain already does to a side: delay in ms and polarity."""
    delay_ms, polarity = 0.0, 1
    for processor in track.chain:
        if not processor.bypassed:
            delay, sign = processor.delay_and_polarity(2 if side == "right" else 1)
            delay_ms, polarity = delay_ms + delay, polarity * sign
    return delay_ms, polarity
