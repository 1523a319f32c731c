"""Clips at work: which part of which file covers which frames of the mix, its level and fades."""

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from metaphon.core.document.channel_mapping import told_layout
from metaphon.core.document.mix import Track
from metaphon.core.document.playable import require_one_width
from metaphon.core.dsp.block import Block
from metaphon.core.errors import InputError
from metaphon.core.files.audio import LOSSY, probe
from metaphon.core.files.working_copies import WorkingReader


@dataclass(frozen=True)
class Placed:
    """A clip's file and the frames of the mix it covers.

    `skipped` frames of the file come before it; `gain` is an amplitude; fades are in frames. A file
    with fewer `channels` is on all of them. `order` has the channels of the file in that of their
    layout, where that is another.
    """

    path: Path
    first: int
    frames: int
    channels: int
    skipped: int = 0
    gain: float = 1.0
    fade_in: int = 0
    fade_out: int = 0
    order: tuple[int, ...] = ()


def placed(track: Track, rate_hz: int) -> tuple[Placed, ...]:
    """The clips of a track as they lie in the mix; what is trimmed to nothing is left out.

    Raises InputError for a missing or unfit file, and for clips of different width.
    """
    found = []
    for clip in track.clips:
        info = probe(clip.file)
        if info.container in LOSSY:
            raise InputError(f"{clip.file.name} is {info.container}; bring it in first.")
        if info.sample_rate_hz != rate_hz:
            raise InputError(
                f"{clip.file.name} is at {info.sample_rate_hz} Hz, the mix at {rate_hz}; "
                "bring it in first."
            )
        first = round(clip.start_s * rate_hz)
        # counted from where the recording would begin, so that parts of a split fit to the sample
        skipped = first - round((clip.start_s - clip.in_s) * rate_hz)
        frames = info.frames - skipped
        if clip.length_s is not None:
            frames = min(frames, round((clip.start_s + clip.length_s) * rate_hz) - first)
        if frames > 0:
            fades = round(clip.fade_in_s * rate_hz), round(clip.fade_out_s * rate_hz)
            channels = track.channels(info.channels)
            used = track.channels_used(info.channels)
            gain = 10.0 ** (clip.gain_db / 20.0) * float(np.sqrt(used / channels))
            told = told_layout(track, used)
            told = told if told and told.recorded == info.channels else None
            is_scene = track.placement.mode == "scene"
            order = told.order if told and not told.is_in_order and not is_scene else ()
            found.append(Placed(clip.file, first, frames, channels, skipped, gain, *fades, order))
    require_one_width(track, {clip.channels for clip in found})
    return tuple(found)


class ClipRun:
    """A clip being read."""

    def __init__(self, clip: Placed) -> None:
        self.clip = clip
        self._reader = WorkingReader(clip.path)

    def covers(self, at: int, frames: int) -> bool:
        """Whether it sounds in a block that begins at a frame of the mix."""
        return self.clip.first < at + frames and at < self.clip.first + self.clip.frames

    def read(self, at: int, frames: int) -> Block:
        """A block, (channels, frames), from a frame of the mix on; silence outside the clip."""
        clip = self.clip
        if clip.first <= at and at + frames <= clip.first + clip.frames:
            within = at - clip.first
            return self._shaped(self._reader.read(clip.skipped + within, frames), within)
        out = np.zeros((clip.channels, frames), dtype=np.float32)
        start, stop = max(clip.first - at, 0), min(clip.first + clip.frames - at, frames)
        if start < stop:
            part = self._reader.read(clip.skipped + at + start - clip.first, stop - start)
            out[:, start:stop] = self._shaped(part, at + start - clip.first)
        return out

    def _shaped(self, part: Block, within: int) -> Block:
        """Its level and fades, by a quarter of a sine each, from a frame of the clip on."""
        clip, count = self.clip, part.shape[1]
        if clip.order:
            part = part[list(clip.order)]
        if len(part) < clip.channels:
            part = np.repeat(part, clip.channels, axis=0)
        if clip.gain != 1.0:
            part = part * np.float32(clip.gain)
        if within < clip.fade_in:
            part = part * _rise(within, count, clip.fade_in)
        to_go = clip.frames - within - count
        if to_go < clip.fade_out:
            part = part * _rise(to_go, count, clip.fade_out)[::-1]
        return part

    def close(self) -> None:
        """Let go of the file."""
        self._reader.close()


def _rise(first: int, frames: int, length: int) -> Block:
    share = (first + np.arange(frames) + 0.5) / length
    return np.sin(np.clip(share, 0.0, 1.0) * np.pi / 2.0).astype(np.float32)
