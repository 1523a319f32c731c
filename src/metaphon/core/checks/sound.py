"""Short excerpts of a mix's recordings for the rules that listen, read once and kept small."""

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from itertools import combinations

import numpy as np
from numpy.typing import NDArray

from metaphon.core.document.mix import Mix, Track
from metaphon.core.engine.levels import Level, levels
from metaphon.core.engine.plan import compile
from metaphon.core.errors import InputError
from metaphon.core.files.audio import ClipReader, probe
from metaphon.core.measure.alignment import Alignment, align

_LONGEST_S = 120.0
_MOVING_TOGETHER = 0.25
_MOST_STEPS = 5
_ALIKE = 0.6  # likeness above which two recordings are taken for the same event
_EXCERPT_S = 10.0


@dataclass(frozen=True)
class Pair:
    """Two tracks with the same sound.

    How much later the other is (ms), and whether it is upside down, as mixed.
    """

    first: Track
    other: Track
    delay_ms: float
    inverted: bool


class Sound:
    """The recordings of a mix's active tracks as they lie in time.

    Their first two minutes at most.
    """

    def __init__(self, mix: Mix) -> None:
        self._mix = mix
        self.rate_hz = mix.sample_rate_hz
        self.tracks = tuple(
            track for track in mix.tracks if not track.resting and not track.muted and track.clips
        )

    @cached_property
    def of_mono(self) -> dict[str, NDArray[np.float32]]:
        """The mono tracks' sound by id, (frames), all from the start of the mix."""
        return {
            track.id: self.read(track)[0] for track in self.tracks if self.channels_of(track) == 1
        }

    @cached_property
    def levels(self) -> dict[str, Level]:
        """The level of every strip at work, by id; empty where the mix cannot be made ready."""
        try:
            return levels(compile(self._mix))
        except InputError:
            return {}

    @cached_property
    def _rises(self) -> dict[str, NDArray[np.float64]]:
        """How the level of every mono track moves from one hundredth of a second to the next."""
        step = self.rate_hz // 100
        found = {}
        for track_id, sound in self.of_mono.items():
            power = (
                np.square(sound[: len(sound) // step * step], dtype=np.float64)
                .reshape(-1, step)
                .mean(axis=1)
            )
            found[track_id] = np.diff(np.sqrt(power))
        return found

    @cached_property
    def alike(self) -> tuple[Pair, ...]:
        """The pairs of mono tracks that carry one sound. Source: Knapp & Carter 1976."""
        return tuple(self._pairs())

    def _pairs(self) -> Iterator[Pair]:
        tracks = {track.id: track for track in self.tracks}
        for one, two in combinations(self.of_mono, 2):
            found = self._aligned(one, two) if self.could_be_alike(one, two) else None
            if found is None or found.confidence < _ALIKE:
                continue
            first, other = (_delay_and_polarity(tracks[i]) for i in (one, two))
            delay_ms = found.delay_ms + other[0] - first[0]
            yield Pair(tracks[one], tracks[two], delay_ms, found.inverted != (first[1] != other[1]))

    def _aligned(self, one: str, two: str) -> Alignment | None:
        a, b = self.of_mono[one], self.of_mono[two]
        frames = min(len(a), len(b))
        span = min(frames, round(_EXCERPT_S * self.rate_hz))
        if span < self.rate_hz // 10:
            return None
        sums = np.concatenate([[0.0], np.cumsum(np.square(a[:frames], dtype=np.float64))])
        start = int(np.argmax(sums[span:] - sums[:-span]))
        return align(a[start : start + span], b[start : start + span], self.rate_hz)

    def could_be_alike(self, one: str, two: str) -> bool:
        """Whether two tracks' levels move together at all.

        A quick sieve before they are compared in earnest.
        """
        a, b = self._rises[one], self._rises[two]
        for lag in range(-_MOST_STEPS, _MOST_STEPS + 1):
            x, y = a[max(lag, 0) :], b[max(-lag, 0) :]
            count = min(len(x), len(y))
            scale = np.linalg.norm(x[:count]) * np.linalg.norm(y[:count])
            if scale > 0 and float(x[:count] @ y[:count]) / scale > _MOVING_TOGETHER:
                return True
        return False

    def channels_of(self, track: Track) -> int:
        """How many channels a track's recording has."""
        return probe(track.clips[0].file).channels

    def read(self, track: Track) -> NDArray[np.float32]:
        """(channels, frames) of a track, its chain not applied."""
        frames = round(_LONGEST_S * self.rate_hz)
        total: NDArray[np.float32] | None = None
        for clip in track.clips:
            reader = ClipReader(clip.file)
            first = round(clip.start_s * self.rate_hz)
            part = reader.read(-first, min(frames, first + reader.frames))
            reader.close()
            if total is None or total.shape[0] != part.shape[0]:
                total = part
            else:
                longer, shorter = (
                    (total, part) if total.shape[1] >= part.shape[1] else (part, total)
                )
                longer[:, : shorter.shape[1]] += shorter
                total = longer
        assert total is not None
        return total


def _delay_and_polarity(track: Track) -> tuple[float, int]:
    """What the chain already does to the first channel: delay in ms and polarity."""
    delay_ms, polarity = 0.0, 1
    for processor in track.chain:
        if not processor.bypassed:
            delay, sign = processor.delay_and_polarity()
            delay_ms, polarity = delay_ms + delay, polarity * sign
    return delay_ms, polarity
