"""Short excerpts of a mix's recordings for the rules that listen, read once and kept small."""

from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from metaphon.core.files.audio import ClipReader
from metaphon.core.scene.mix import Mix, Track

_LONGEST_S = 120.0


class Sound:
    """The recordings of a mix's active tracks as they lie in time, their first two minutes at most."""

    def __init__(self, mix: Mix) -> None:
        self.rate_hz = mix.sample_rate_hz
        self.tracks = tuple(track for track in mix.tracks if not track.resting and not track.muted and track.clips)

    @cached_property
    def of_mono(self) -> dict[str, NDArray[np.float32]]:
        """The mono tracks' sound by id, (frames), all from the start of the mix."""
        read = {track.id: self.read(track) for track in self.tracks}
        return {track_id: sound[0] for track_id, sound in read.items() if len(sound) == 1}

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
