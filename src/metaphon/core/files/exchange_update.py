"""What a file of clips and markers changes in a mix: updated where it is there, added where not."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from metaphon.core.document.mix import Clip, Mix, Track
from metaphon.core.edits.clips import SetClips
from metaphon.core.edits.command import Command
from metaphon.core.edits.markers import AddMarker, SetMarker
from metaphon.core.edits.structure import AddTrack, Note
from metaphon.core.edits.values import SetValue
from metaphon.core.errors import InputError
from metaphon.core.files.edit_exchange import Exchange, Look, Placed, Recording, taken
from metaphon.core.foreign import reads_foreign

_SAME_S = 0.0005
_VALUES = ("start_s", "in_s", "length_s", "gain_db", "fade_in_s", "fade_out_s")


@dataclass
class Update:
    """The commands that take a file in, and a line for each thing that they change."""

    commands: list[Command] = field(default_factory=list)
    lines: list[str] = field(default_factory=list)
    missing: list[str] = field(default_factory=list)  # recordings that are not in the mix


@reads_foreign
def plan_update(
    text: str,
    name: str,
    mix: Mix,
    recordings: Mapping[Path, Recording],
    new_tracks: Mapping[Path, AddTrack],
) -> Update:
    """Read what another program gives, and plan what it changes; see `taken` and `update_from`.

    Raises InputError in one sentence for what cannot be taken in.
    """
    try:
        return update_from(mix, taken(text, name, mix), recordings, new_tracks)
    except InputError:
        raise
    except ValueError:
        raise InputError(
            f"{name} tells more than a track or a mix may have; take a part of it. "
            "Nothing was changed."
        ) from None


def update_from(
    mix: Mix,
    told: Exchange,
    recordings: Mapping[Path, Recording],
    new_tracks: Mapping[Path, AddTrack],
) -> Update:
    """Plan what a file changes in a mix.

    A track is known by its id, else by its name; a clip of it by its number with the same
    recording, else by the recording at the same time, else by the next of that recording. What the
    file does not tell stays.

    Parameters
    ----------
    mix : Mix
        Before it.
    told : Exchange
        What the file tells.
    recordings : mapping of Path to Recording
        Those of the mix. A file may name them with their suffix or without, in any case.
    new_tracks : mapping of Path to AddTrack
        The command that makes a track of each recording.

    Raises
    ------
    InputError
        Where a clip is told with a value that none may have.
    """
    found = Update()
    held, files = mix, _by_name(recordings)
    for (known_id, name), placed in _by_track(mix, told.clips).items():
        known = [one for one in placed if _file_of(one, files) is not None]
        found.missing += [one.recording for one in placed if _file_of(one, files) is None]
        if not known:
            continue
        track = next((one for one in mix.tracks if one.id == known_id), None)
        if track is None:
            made = new_tracks[_of(known[0], files)]
            made = made.model_copy(update={"name": name[:110] or "Track"})
            held = made.apply(held)
            track = held.tracks[-1].model_copy(update={"clips": ()})
            found.commands.append(made)
            found.lines.append(f"New track {track.name}, {_counted(len(known), 'clip')}")
            clips = tuple(_clip(one, None, files) for one in known)
        else:
            clips = _updated(track, known, files, found.lines)
        if clips != track.clips:
            placing = SetClips(strip=track.id, clips=clips)
            held = placing.apply(held)
            found.commands.append(placing)
        _look(track, told.looks.get(placed[0].track), found)
    found.missing = sorted(set(found.missing))
    _markers(mix, told, found)
    return found


def _by_track(mix: Mix, placed: Sequence[Placed]) -> dict[tuple[str, str], list[Placed]]:
    """What is told by the id of the track that it is on, or by the name of a new one."""
    found: dict[tuple[str, str], list[Placed]] = {}
    for one in placed:
        track = _track(mix, one.track_id, one.track)
        found.setdefault((track.id, "") if track else ("", one.track), []).append(one)
    return found


@dataclass(frozen=True)
class _Files:
    """The recordings of a mix by their names, and how long each is in seconds."""

    paths: Mapping[str, Path]
    lengths_s: Mapping[Path, float]


def _by_name(recordings: Mapping[Path, Recording]) -> _Files:
    stems = {Path(one.name).stem.casefold(): path for path, one in recordings.items()}
    whole = {one.name.casefold(): path for path, one in recordings.items()}
    return _Files(stems | whole, {path: one.duration_s for path, one in recordings.items()})


def _file_of(one: Placed, files: _Files) -> Path | None:
    name = one.recording.casefold()
    return files.paths.get(name) or files.paths.get(Path(name).stem)


def _of(one: Placed, files: _Files) -> Path:
    file = _file_of(one, files)
    assert file is not None
    return file


def _track(mix: Mix, track_id: str, name: str) -> Track | None:
    ids = (track for track in mix.tracks if track_id and track.id == track_id)
    named = (track for track in mix.tracks if track.name == name and not track.resting)
    return next(ids, None) or next(named, None)


def _updated(
    track: Track, placed: Sequence[Placed], files: _Files, lines: list[str]
) -> tuple[Clip, ...]:
    """The clips of a track with those that a file tells set anew or added."""
    clips = list(track.clips)
    known = _match(track, placed, files)
    for number, one in enumerate(placed):
        old = clips[known[number]] if number in known else None
        new = _clip(one, old, files)
        if old is None:
            clips.append(new)
        elif new != old:
            lines.append(f"{track.name}: {_change(one, old, new)}")
            clips[known[number]] = new
    if added := len(placed) - len(known):
        lines.append(f"{track.name}: {_counted(added, 'clip')} added")
    return tuple(clips)


def _match(track: Track, placed: Sequence[Placed], files: _Files) -> dict[int, int]:
    """Which clip of a track each of those told is, by their places in both lists."""
    found: dict[int, int] = {}

    def by_number(one: Placed, place: int) -> bool:
        return one.track_id == track.id and one.place == place

    def by_time(one: Placed, place: int) -> bool:
        return abs(track.clips[place].start_s - one.start_s) < _SAME_S

    for is_it in (by_number, by_time, lambda one, place: True):
        for number, one in enumerate(placed):
            file = _of(one, files)
            alike = [
                place
                for place, clip in enumerate(track.clips)
                if place not in found.values() and clip.file == file and is_it(one, place)
            ]
            if number not in found and alike:
                found[number] = min(
                    alike, key=lambda n: abs(track.clips[n].start_s - placed[number].start_s)
                )
    return found


def _clip(one: Placed, old: Clip | None, files: _Files) -> Clip:
    values = {name: getattr(one, name) for name in _VALUES}
    given = {name: value for name, value in values.items() if value is not None}
    if old is not None:
        # a difference that no sample shows is none
        near = {
            name
            for name, value in given.items()
            if (held := getattr(old, name)) is not None and abs(held - value) < 1e-6
        }
        given = {name: value for name, value in given.items() if name not in near}
        ends_s = old.in_s + given.get("length_s", np.inf)
        if old.length_s is None and abs(ends_s - files.lengths_s[old.file]) < _SAME_S:
            del given["length_s"]  # it is heard to the end of its recording
    try:
        kept = old.model_dump() if old else {"file": _of(one, files)}
        return Clip.model_validate({**kept, **given})
    except ValueError:
        raise InputError(
            f"A clip of {one.recording} on {one.track} is told with a value that none may "
            "have; correct it in the file."
        ) from None


def _change(one: Placed, old: Clip, new: Clip) -> str:
    words = {
        "start_s": "start",
        "in_s": "in",
        "length_s": "length",
        "gain_db": "gain",
        "fade_in_s": "fade in",
        "fade_out_s": "fade out",
    }

    def shown(value: float | None, name: str) -> str:
        unit = "dB" if name == "gain_db" else "s"
        return "whole" if value is None else f"{value:.3f} {unit}".replace("-", "\u2212")

    changes = [
        f"{words[name]} {shown(getattr(old, name), name)} to {shown(getattr(new, name), name)}"
        for name in _VALUES
        if getattr(old, name) != getattr(new, name)
    ]
    return f"clip of {one.recording}, {', '.join(changes)}"


def _look(track: Track, look: Look | None, found: Update) -> None:
    if look is None:
        return
    if look.colour not in ("none", track.colour):
        found.commands.append(SetValue(strips=(track.id,), path="colour", value=look.colour))
        found.lines.append(f"{track.name}: colour {look.colour}")
    if look.note and look.note != track.note:
        found.commands.append(Note(strip=track.id, note=look.note))
        found.lines.append(f"{track.name}: its note")


def _markers(mix: Mix, told: Exchange, found: Update) -> None:
    free = {marker.id: marker for marker in mix.markers}
    left = []
    for one in told.markers:
        same = free.get(one.id) if one.id else None
        same = same or next(
            (m for m in free.values() if m.name == one.name and abs(m.at_s - one.at_s) < _SAME_S),
            None,
        )
        if same is None:
            left.append(one)
            continue
        del free[same.id]
        if abs(same.at_s - one.at_s) >= _SAME_S:
            found.commands.append(SetMarker(marker=same.id, path="at_s", value=one.at_s))
            found.lines.append(f"Marker {one.name or same.name} to {one.at_s:.3f} s")
        if same.name != one.name:
            found.commands.append(SetMarker(marker=same.id, path="name", value=one.name))
            found.lines.append(f"Marker {same.name} is named {one.name}")
    for one in left:
        # a name that is there once is that marker, moved
        named = [m for m in free.values() if one.name and m.name == one.name]
        if len(named) == 1 and sum(other.name == one.name for other in left) == 1:
            del free[named[0].id]
            found.commands.append(SetMarker(marker=named[0].id, path="at_s", value=one.at_s))
            found.lines.append(f"Marker {one.name} to {one.at_s:.3f} s")
        else:
            found.commands.append(AddMarker(at_s=one.at_s, name=one.name))
            found.lines.append(f"New marker {one.name or 'without a name'} at {one.at_s:.3f} s")


def _counted(number: int, thing: str) -> str:
    return f"{number} {thing}{'' if number == 1 else 's'}"
