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

from metaphon.core.document.mix import COLOURS, LONGEST_NOTE, Colour, Mix, heard_s
from metaphon.core.document.part import LATEST_S
from metaphon.core.document.start_time import seconds_at, start_s, timecode_at
from metaphon.core.errors import InputError
from metaphon.core.files.tables import as_csv
from metaphon.core.foreign import reads_foreign

_MOST = 20_000
_NONSENSE = (ValueError, KeyError, TypeError, AttributeError, OverflowError, RecursionError)
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
_ID_COLUMNS = ("timecode", "track_id", "clip")
_TRACK_COLUMNS = ("track_colour", "track_note")
_OWN = "metaphon"  # what no other program need know, in an OpenTimelineIO document


@dataclass(frozen=True)
class Recording:
    """A recording by what people call it, and how long it is."""

    name: str
    duration_s: float


@dataclass(frozen=True)
class Placed:
    """A clip as it was told: on which track, of which recording, where, and how it begins.

    What was not told is None.
    """

    track: str
    recording: str
    start_s: float
    in_s: float = 0.0
    length_s: float | None = None
    gain_db: float | None = None
    fade_in_s: float | None = None
    fade_out_s: float | None = None
    track_id: str = ""
    place: int | None = None  # among the clips of its track


@dataclass(frozen=True)
class Look:
    """What a track looks like and what is noted on it."""

    colour: Colour = "none"
    note: str = ""


@dataclass(frozen=True)
class PlacedMarker:
    """A marker as it was told."""

    at_s: float
    name: str = ""
    id: str = ""


@dataclass(frozen=True)
class Exchange:
    """What was taken: clips, looks of tracks by name, and markers."""

    clips: tuple[Placed, ...] = ()
    markers: tuple[PlacedMarker, ...] = ()
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
            track.id,
            place,
        )
        for track in mix.tracks
        for place, clip in sorted(enumerate(track.clips), key=lambda one: one[1].start_s)
    ]


def to_timeline(mix: Mix, recordings: Mapping[Path, Recording]) -> str:
    """A mix as an OpenTimelineIO document.

    Clips of a track that overlap lie on further tracks of its name, since none may there.
    """
    rate_hz = mix.sample_rate_hz
    lengths = {one.name: one.duration_s for one in recordings.values()}
    timeline = otio.schema.Timeline(mix.title)
    if starts := round(start_s(mix) * rate_hz):
        timeline.global_start_time = otio.opentime.RationalTime(starts, rate_hz)
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
            own: dict[str, Any] = {"gain_db": one.gain_db}
            own |= {"fade_in_s": one.fade_in_s, "fade_out_s": one.fade_out_s}
            own |= {"track_id": one.track_id, "place": one.place}
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
        timeline.tracks.markers.append(
            otio.schema.Marker(marker.name, marked_range=place, metadata={_OWN: {"id": marker.id}})
        )
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
            timecode_at(mix, one.start_s),
            one.track_id,
            (one.place or 0) + 1,
            strips[one.track].colour,
            strips[one.track].note,
        ]
        for one in placed_of(mix, recordings)
    ]
    return as_csv((*_CLIP_COLUMNS, *_ID_COLUMNS, *_TRACK_COLUMNS), rows)


def markers_table(mix: Mix) -> str:
    """The markers of a mix as CSV."""
    rows = [[one.at_s, one.name, timecode_at(mix, one.at_s), one.id] for one in mix.markers]
    return as_csv(("at_s", "name", "timecode", "id"), rows)


@reads_foreign
def taken(text: str, name: str, mix: Mix | None = None) -> Exchange:
    """Read what another program gives; a table may say times by the timecode of the mix alone.

    Raises InputError in one sentence for what is neither kind, or says no clip and no marker.
    """
    found = (
        _from_timeline(text, name)
        if text.lstrip().startswith("{")
        else _from_table(text, name, mix or Mix())
    )
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
    except (otio.exceptions.OTIOError, *_NONSENSE):
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
            own = own if isinstance(own, Mapping) else {}
            place_told = own.get("place")
            yield Placed(
                track.name or "Track",
                _called(getattr(media, "target_url", "") or clip.name),
                place.start_time.to_seconds(),
                max(in_s, 0.0),
                source.duration.to_seconds(),
                **{
                    key: float(own[key]) if key in own else None
                    for key in ("gain_db", "fade_in_s", "fade_out_s")
                },
                track_id=str(own.get("track_id", "")),
                place=int(place_told) if place_told is not None else None,
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


def _markers_of(timeline: Any) -> Iterator[PlacedMarker]:
    for marker in timeline.tracks.markers:
        own = marker.metadata.get(_OWN, {})
        known = str(own.get("id", "")) if isinstance(own, Mapping) else ""
        at_s = max(marker.marked_range.start_time.to_seconds(), 0.0)
        if not at_s <= LATEST_S:
            raise ValueError(at_s)
        yield PlacedMarker(round(at_s, 6), str(marker.name).strip()[:120], known)


def _from_table(text: str, name: str, mix: Mix) -> Exchange:
    try:
        lines = list(csv.DictReader(io.StringIO(text.lstrip("\ufeff"))))
    except csv.Error as error:
        raise InputError(f"{name} is no table that can be read ({error}).") from None
    columns = {column.strip().lower() for column in lines[0] if column} if lines else set()
    clips, markers = [], []
    looks: dict[str, Look] = {}
    for number, line in enumerate(lines, 2):
        row = {
            (key or "").strip().lower(): (value or "").strip().removeprefix("'")
            for key, value in line.items()
            if isinstance(value, str)
        }
        try:
            if "recording" in columns:
                clips.append(_clip(row, mix))
                looks[clips[-1].track] = _look(row)
            elif columns & {"at_s", "timecode"}:
                at_s = round(_time(row, "at_s", mix), 6)
                markers.append(PlacedMarker(at_s, row.get("name", "")[:120], row.get("id", "")))
        except (*_NONSENSE, InputError):
            raise InputError(
                f"Line {number} of {name} cannot be read; times are seconds, such as 12.5, or "
                "timecode."
            ) from None
    return Exchange(tuple(clips), tuple(markers), looks)


def _look(row: Mapping[str, str]) -> Look:
    note = row.get("track_note", "")[:LONGEST_NOTE]
    return Look(_colour_named(row.get("track_colour", "")), note)


def _time(row: Mapping[str, str], column: str, mix: Mix) -> float:
    """A time in seconds, or by timecode where there are none."""
    return _number(row[column]) if row.get(column) else _seconds_in(mix, row["timecode"])


def _seconds_in(mix: Mix, timecode: str) -> float:
    """A time of a mix by timecode; ValueError before its beginning."""
    at_s = seconds_at(mix, timecode)
    if at_s < 0.0:
        raise ValueError(timecode)
    return at_s


def _clip(row: Mapping[str, str], mix: Mix) -> Placed:
    def number(name: str) -> float | None:
        return _number(row[name]) if row.get(name) else None

    gain = row.get("gain_db", "").replace(",", ".")
    return Placed(
        row.get("track") or Path(row["recording"]).stem,
        row["recording"],
        _time(row, "start_s", mix),
        number("in_s") or 0.0,
        number("length_s"),
        float(gain) if gain else None,
        number("fade_in_s"),
        number("fade_out_s"),
        row.get("track_id", ""),
        int(row["clip"]) - 1 if row.get("clip") else None,
    )


def _number(text: str) -> float:
    value = float(text.replace(",", "."))
    if not 0.0 <= value <= 86_400.0:
        raise ValueError(text)
    return value
