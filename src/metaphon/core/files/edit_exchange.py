"""Clips in time and markers, given to and taken from other programs.

As an OpenTimelineIO document (its published schemas, written and read by its own library) or as a
table (CSV): a line a clip, or a line a marker.
"""

import csv
import io
import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from urllib.parse import unquote, urlsplit

import opentimelineio as otio

from metaphon.core.document.mix import COLOURS, LONGEST_NOTE, Clip, Colour, Mix, heard_s
from metaphon.core.errors import InputError
from metaphon.core.files.tables import as_csv

_MOST = 20_000
_CLIP_COLUMNS = (
    "track",
    "recording",
    "start_s",
    "in_s",
    "length_s",
    "gain_db",
    "fade_in_s",
    "fade_out_s",
)
_TRACK_COLUMNS = ("track_colour", "track_note")
_OWN = "metaphon"  # what no other program need know, in an OpenTimelineIO document


@dataclass(frozen=True)
class Recording:
    """A recording by what people call it, and how long it is."""

    name: str
    duration_s: float


@dataclass(frozen=True)
class Placed:
    """A clip as it was told: on which track, of which recording, where, and how it begins."""

    track: str
    recording: str
    start_s: float
    in_s: float = 0.0
    length_s: float | None = None
    gain_db: float = 0.0
    fade_in_s: float = 0.0
    fade_out_s: float = 0.0


@dataclass(frozen=True)
class Look:
    """What a track looks like and what is noted on it."""

    colour: Colour = "none"
    note: str = ""


@dataclass(frozen=True)
class Exchange:
    """What was taken: clips, looks of tracks by name, and markers as (seconds, name)."""

    clips: tuple[Placed, ...] = ()
    markers: tuple[tuple[float, str], ...] = ()
    looks: Mapping[str, Look] = field(default_factory=dict)


def placed_of(mix: Mix, recordings: Mapping[Path, Recording]) -> list[Placed]:
    """All clips of a mix, track by track in order of time."""
    return [
        Placed(
            track.name,
            recordings[clip.file].name,
            clip.start_s,
            clip.in_s,
            heard_s(clip.in_s, clip.length_s, recordings[clip.file].duration_s),
            clip.gain_db,
            clip.fade_in_s,
            clip.fade_out_s,
        )
        for track in mix.tracks
        for clip in sorted(track.clips, key=lambda clip: clip.start_s)
    ]


def to_timeline(mix: Mix, recordings: Mapping[Path, Recording]) -> str:
    """A mix as an OpenTimelineIO document.

    Clips of a track that overlap lie on further tracks of its name, since none may there.
    """
    rate_hz = mix.sample_rate_hz
    lengths = {one.name: one.duration_s for one in recordings.values()}
    timeline = otio.schema.Timeline(mix.title)
    strips = {track.name: track for track in mix.tracks}
    for name, clips in _layers(placed_of(mix, recordings)):
        track = otio.schema.Track(name, kind=otio.schema.TrackKind.Audio)
        if strips[name].colour != "none":
            track.color = getattr(otio.core.Color, strips[name].colour.upper())
        if strips[name].note:
            track.metadata[_OWN] = {"note": strips[name].note}
        end_s = 0.0
        for one in clips:
            if one.start_s > end_s:
                track.append(otio.schema.Gap(source_range=_range(end_s, one.start_s, rate_hz)))
            length_s = one.length_s or 0.0
            media = otio.schema.ExternalReference(
                target_url=one.recording,
                available_range=_range(0.0, lengths[one.recording], rate_hz),
            )
            own = {"gain_db": one.gain_db}
            own |= {"fade_in_s": one.fade_in_s, "fade_out_s": one.fade_out_s}
            track.append(
                otio.schema.Clip(
                    one.recording,
                    media_reference=media,
                    source_range=_range(one.in_s, one.in_s + length_s, rate_hz),
                    metadata={_OWN: own},
                )
            )
            end_s = one.start_s + length_s
        timeline.tracks.append(track)
    for marker in mix.markers:
        place = _range(marker.at_s, marker.at_s, rate_hz)
        timeline.tracks.markers.append(otio.schema.Marker(marker.name, marked_range=place))
    return str(timeline.to_json_string())


def _range(from_s: float, to_s: float, rate_hz: int) -> Any:
    first, last = round(from_s * rate_hz), round(to_s * rate_hz)
    time = otio.opentime.RationalTime
    return otio.opentime.TimeRange(time(first, rate_hz), time(last - first, rate_hz))


def _layers(placed: Sequence[Placed]) -> Iterator[tuple[str, list[Placed]]]:
    """The clips of each track, in as many layers as overlap."""
    for track in dict.fromkeys(one.track for one in placed):
        layers: list[list[Placed]] = []
        for one in (one for one in placed if one.track == track):
            for layer in layers:
                last = layer[-1]
                if last.start_s + (last.length_s or 0.0) <= one.start_s + 1e-9:
                    layer.append(one)
                    break
            else:
                layers.append([one])
        yield from ((track, layer) for layer in layers)


def clips_table(mix: Mix, recordings: Mapping[Path, Recording]) -> str:
    """The clips of a mix as CSV."""
    strips = {track.name: track for track in mix.tracks}
    rows = [
        [
            *(getattr(one, name) for name in _CLIP_COLUMNS),
            strips[one.track].colour,
            strips[one.track].note,
        ]
        for one in placed_of(mix, recordings)
    ]
    return as_csv((*_CLIP_COLUMNS, *_TRACK_COLUMNS), rows)


def markers_table(mix: Mix) -> str:
    """The markers of a mix as CSV."""
    return as_csv(("at_s", "name"), [[marker.at_s, marker.name] for marker in mix.markers])


def taken(text: str, name: str) -> Exchange:
    """Read what another program gives.

    Raises InputError in one sentence for what is neither kind, or says no clip and no marker.
    """
    found = _from_timeline(text, name) if text.lstrip().startswith("{") else _from_table(text, name)
    if not found.clips and not found.markers:
        raise InputError(f"{name} names no clip of a recording and no marker; choose another file.")
    if len(found.clips) > _MOST or len(found.markers) > _MOST:
        raise InputError(f"{name} holds more than {_MOST} clips or markers; take a part of it.")
    return found


def _from_timeline(text: str, name: str) -> Exchange:
    try:
        read = otio.adapters.read_from_string(text, "otio_json")
        timeline = read if isinstance(read, otio.schema.Timeline) else None
        if timeline is None:
            raise InputError(f"{name} is no timeline; export a whole timeline.")
        looks = {track.name: _look_of(track) for track in timeline.audio_tracks()}
        return Exchange(tuple(_clips_of(timeline)), tuple(_markers_of(timeline)), looks)
    except InputError:
        raise
    except (otio.exceptions.OTIOError, ValueError, KeyError, TypeError):
        raise InputError(
            f"{name} is no OpenTimelineIO document that can be read; export it again."
        ) from None


def _clips_of(timeline: Any) -> Iterator[Placed]:
    for track in timeline.audio_tracks():
        for clip in track.find_clips(shallow_search=False):
            place = clip.transformed_time_range(clip.trimmed_range(), timeline.tracks)
            source, media = clip.trimmed_range(), clip.media_reference
            begins = media.available_range.start_time if media and media.available_range else None
            in_s = source.start_time.to_seconds() - (begins.to_seconds() if begins else 0.0)
            own = clip.metadata.get(_OWN, {})
            yield Placed(
                track.name or "Track",
                _called(getattr(media, "target_url", "") or clip.name),
                place.start_time.to_seconds(),
                max(in_s, 0.0),
                source.duration.to_seconds(),
                **{key: float(own.get(key, 0.0)) for key in ("gain_db", "fade_in_s", "fade_out_s")},
            )


def _look_of(track: Any) -> Look:
    """Its note, and of our colours the nearest by name, or by what it is made of."""
    own = track.metadata.get(_OWN, {})
    note = str(own.get("note", ""))[:LONGEST_NOTE] if isinstance(own, Mapping) else ""
    if track.color is None:
        return Look(note=note)
    wanted = (track.color.r, track.color.g, track.color.b)

    def apart(colour: Colour) -> float:
        known = getattr(otio.core.Color, colour.upper())
        return math.dist(wanted, (known.r, known.g, known.b))

    named = _colour_named(str(track.color.name))
    return Look(min(COLOURS[1:], key=apart) if named == "none" else named, note)


def _colour_named(name: str) -> Colour:
    return next((colour for colour in COLOURS if colour == name.strip().lower()), "none")


def _called(address: str) -> str:
    """The name of a file at an address."""
    return Path(unquote(urlsplit(address).path) or address).name


def _markers_of(timeline: Any) -> Iterator[tuple[float, str]]:
    for marker in timeline.tracks.markers:
        yield max(marker.marked_range.start_time.to_seconds(), 0.0), str(marker.name)[:120]


def _from_table(text: str, name: str) -> Exchange:
    table = csv.DictReader(io.StringIO(text.lstrip("\ufeff")))
    columns = {column.strip().lower() for column in table.fieldnames or () if column}
    clips, markers = [], []
    looks: dict[str, Look] = {}
    for number, line in enumerate(table, 2):
        row = {
            (key or "").strip().lower(): (value or "").strip().removeprefix("'")
            for key, value in line.items()
            if isinstance(value, str)
        }
        try:
            if "recording" in columns:
                clips.append(_clip(row))
                looks[clips[-1].track] = _look(row)
            elif "at_s" in columns:
                markers.append((_number(row["at_s"]), row.get("name", "")[:120]))
        except (ValueError, KeyError):
            raise InputError(
                f"Line {number} of {name} cannot be read; times are seconds, such as 12.5."
            ) from None
    return Exchange(tuple(clips), tuple(markers), looks)


def _look(row: Mapping[str, str]) -> Look:
    note = row.get("track_note", "")[:LONGEST_NOTE]
    return Look(_colour_named(row.get("track_colour", "")), note)


def _clip(row: Mapping[str, str]) -> Placed:
    length = row.get("length_s", "")
    return Placed(
        row.get("track") or Path(row["recording"]).stem,
        row["recording"],
        _number(row["start_s"]),
        _number(row.get("in_s") or "0"),
        _number(length) if length else None,
        float((row.get("gain_db") or "0").replace(",", ".")),
        _number(row.get("fade_in_s") or "0"),
        _number(row.get("fade_out_s") or "0"),
    )


def _number(text: str) -> float:
    value = float(text.replace(",", "."))
    if not 0.0 <= value <= 86_400.0:
        raise ValueError(text)
    return value


def clips_for(placed: Sequence[Placed], files: Mapping[str, Path]) -> dict[str, tuple[Clip, ...]]:
    """The clips of each track, of recordings by their names; those that are not there are left out.

    Raises InputError for what no clip may be.
    """
    found: dict[str, list[Clip]] = {}
    for one in placed:
        file = files.get(one.recording.casefold()) or files.get(Path(one.recording).stem.casefold())
        if file is not None:
            values = {name: getattr(one, name) for name in _CLIP_COLUMNS[2:]}
            try:
                found.setdefault(one.track, []).append(Clip(file=file, **values))
            except ValueError:
                raise InputError(
                    f"A clip of {one.recording} on {one.track} is told with a value that none may "
                    "have; correct it in the file."
                ) from None
    return {track: tuple(clips) for track, clips in found.items()}
