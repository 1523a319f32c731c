"""The clips of tracks: set, moved, trimmed, split, copied and taken off. Times are in seconds."""

from pathlib import Path
from typing import Any, Literal

from pydantic import Field

from metaphon.core.document.mix import Clip, Mix, Track
from metaphon.core.document.part import Identifier, TimeS
from metaphon.core.edits.command import Command, changed, counted, strip_of
from metaphon.core.errors import InputError, Vanished

SHORTEST_S = 0.001
# what an edge inside a recording gets, so that it does not click; it can be set to nothing again
EDGE_FADE_S = 0.005

_PLACE = counted("Which clip, counted from 0.")


def _track(mix: Mix, strip_id: str) -> Track:
    track = strip_of(mix, strip_id)
    if not isinstance(track, Track):
        raise InputError(f"{track.name} is a bus; only tracks have recordings.")
    return track


def _clip(mix: Mix, strip_id: str, place: int) -> Clip:
    clips = _track(mix, strip_id).clips
    if place >= len(clips):
        raise Vanished("This clip is no longer there; look again.")
    return clips[place]


def _with_clips(mix: Mix, strip_id: str, place: int, instead: tuple[Clip, ...]) -> Mix:
    """The mix with other clips in the place of one."""
    clips = _track(mix, strip_id).clips
    found = (*clips[:place], *instead, *clips[place + 1 :])
    return changed(mix, [strip_id], lambda track: {"clips": found})


def _with_another(mix: Mix, strip_id: str, clip: Clip) -> Mix:
    """The mix with one more clip on a track."""
    clips = (*_track(mix, strip_id).clips, clip)
    return changed(mix, [strip_id], lambda track: {"clips": clips})


def _altered(clip: Clip, **values: Any) -> Clip:
    """A clip with other values, each held to the range of its field."""
    return Clip.model_validate({**clip.model_dump(), **values})


class AddClip(Command):
    """Set one more recording on a track."""

    kind: Literal["add_clip"] = "add_clip"
    strip: Identifier
    file: Path = Field(description="The recording, relative to the document.")
    start_s: TimeS = 0.0

    def apply(self, mix: Mix) -> Mix:
        return _with_another(mix, self.strip, Clip(file=self.file, start_s=self.start_s))

    def describe(self, mix: Mix) -> str:
        return f"Set {self.file.name} on {strip_of(mix, self.strip).name}"


class SetClips(Command):
    """Set all clips of a track anew."""

    kind: Literal["set_clips"] = "set_clips"
    strip: Identifier
    clips: tuple[Clip, ...] = Field(max_length=1000)

    def apply(self, mix: Mix) -> Mix:
        _track(mix, self.strip)
        return changed(mix, [self.strip], lambda track: {"clips": self.clips})

    def describe(self, mix: Mix) -> str:
        return f"Set {len(self.clips)} clips on {strip_of(mix, self.strip).name}"


class RemoveClip(Command):
    """Take a clip off a track."""

    kind: Literal["remove_clip"] = "remove_clip"
    strip: Identifier
    place: int = _PLACE

    def apply(self, mix: Mix) -> Mix:
        _clip(mix, self.strip, self.place)
        return _with_clips(mix, self.strip, self.place, ())

    def describe(self, mix: Mix) -> str:
        return f"Took a clip off {strip_of(mix, self.strip).name}"


class MoveClip(Command):
    """Move a clip in time, and to another track where one is named."""

    kind: Literal["move_clip"] = "move_clip"
    strip: Identifier
    place: int = _PLACE
    start_s: TimeS
    to: Identifier | None = None

    def apply(self, mix: Mix) -> Mix:
        moved = _altered(_clip(mix, self.strip, self.place), start_s=self.start_s)
        if self.to is None or self.to == self.strip:
            return _with_clips(mix, self.strip, self.place, (moved,))
        return _with_another(_with_clips(mix, self.strip, self.place, ()), self.to, moved)

    def describe(self, mix: Mix) -> str:
        there = f" to {strip_of(mix, self.to).name}" if self.to and self.to != self.strip else ""
        return f"{strip_of(mix, self.strip).name}: clip moved{there}, {self.start_s:.3f} s"


class CopyClip(Command):
    """Set a copy of a clip at another time, on its own track or another."""

    kind: Literal["copy_clip"] = "copy_clip"
    strip: Identifier
    place: int = _PLACE
    start_s: TimeS
    to: Identifier | None = None

    def apply(self, mix: Mix) -> Mix:
        copy = _altered(_clip(mix, self.strip, self.place), start_s=self.start_s)
        return _with_another(mix, self.to or self.strip, copy)

    def describe(self, mix: Mix) -> str:
        there = strip_of(mix, self.to or self.strip).name
        return f"Copied a clip to {there}, {self.start_s:.3f} s"


class TrimClip(Command):
    """Let a clip begin and end at other times of the mix; its sound stays where it is."""

    kind: Literal["trim_clip"] = "trim_clip"
    strip: Identifier
    place: int = _PLACE
    begins_s: TimeS
    ends_s: TimeS | None = Field(None, description="None for the end of the recording.")

    def apply(self, mix: Mix) -> Mix:
        clip = _clip(mix, self.strip, self.place)
        begins_s = max(self.begins_s, clip.start_s - clip.in_s)  # no earlier than the recording
        if self.ends_s is not None and self.ends_s - begins_s < SHORTEST_S:
            raise InputError("A clip ends after it begins; trim it to less.")
        values: dict[str, Any] = {
            "start_s": begins_s,
            "in_s": clip.in_s + begins_s - clip.start_s,
            "length_s": None if self.ends_s is None else self.ends_s - begins_s,
        }
        if begins_s > clip.start_s and not clip.fade_in_s:
            values["fade_in_s"] = EDGE_FADE_S
        ended_s = None if clip.length_s is None else clip.start_s + clip.length_s
        sooner = self.ends_s is not None and (ended_s is None or self.ends_s < ended_s)
        if sooner and not clip.fade_out_s:
            values["fade_out_s"] = EDGE_FADE_S
        return _with_clips(mix, self.strip, self.place, (_altered(clip, **values),))

    def describe(self, mix: Mix) -> str:
        return f"{strip_of(mix, self.strip).name}: clip trimmed"


class SplitClip(Command):
    """Make two clips of one, at a time of the mix; together they sound as before."""

    kind: Literal["split_clip"] = "split_clip"
    strip: Identifier
    place: int = _PLACE
    at_s: TimeS

    def apply(self, mix: Mix) -> Mix:
        clip = _clip(mix, self.strip, self.place)
        first_s = self.at_s - clip.start_s
        left = None if clip.length_s is None else clip.length_s - first_s
        if first_s < SHORTEST_S or (left is not None and left < SHORTEST_S):
            raise InputError("A clip is split between its beginning and its end; move there first.")
        if first_s < clip.fade_in_s or (left is not None and left < clip.fade_out_s):
            raise InputError("A clip is not split within its fades; shorten the fade first.")
        first = _altered(clip, length_s=first_s, fade_out_s=0.0)
        second = _altered(
            clip, start_s=self.at_s, in_s=clip.in_s + first_s, length_s=left, fade_in_s=0.0
        )
        return _with_clips(mix, self.strip, self.place, (first, second))

    def describe(self, mix: Mix) -> str:
        return f"{strip_of(mix, self.strip).name}: clip split at {self.at_s:.3f} s"
