"""Short excerpts of a mix's recordings for the rules that listen, read once and kept small."""

from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from metaphon.core.engine.levels import Level, levels
from metaphon.core.engine.plan import compile
from metaphon.core.errors import InputError
from metaphon.core.files.audio import ClipReader, probe
from metaphon.core.scene.mix import Mix, Track

_LONGEST_S = 120.0
_MOVING_TOGETHER = 0.25
_MOST_STEPS = 5


class Sound:
    """The recordings of a mix's active tracks as they lie in time, their first two minutes at most."""

    def __init__(self, mix: Mix) -> None:
        self._mix = mix
        self.rate_hz = mix.sample_rate_hz
        self.tracks = tuple(track for track in mix.tracks if not track.resting and not track.muted and track.clips)

    @cached_property
    def of_mono(self) -> dict[str, NDArray[np.float32]]:
        """The mono tracks' sound by id, (frames), all from the start of the mix."""
        return {track.id: self.read(track)[0] for track in self.tracks if self.channels_of(track) == 1}

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
            power = np.square(sound[: len(sound) // step * step], dtype=np.float64).reshape(-1, step).mean(axis=1)
            found[track_id] = np.diff(np.sqrt(power))
        return found

    def could_be_alike(self, one: str, two: str) -> bool:
        """Whether two tracks' levels move together at all; a quick sieve before they are compared in earnest."""
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
                longer, shorter = (total, part) if total.shape[1] >= part.shape[1] else (part, total)
                longer[:, : shorter.shape[1]] += shorter
                total = longer
        assert total is not None
        return total
