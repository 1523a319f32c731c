"""The recordings of a mix as they lie in time: what Intake draws."""

from dataclasses import dataclass
from typing import Any

from metaphon.core.document.mix import Clip, Track, heard_s
from metaphon.core.document.start_time import timecode_at
from metaphon.core.edits.clips import MoveClip
from metaphon.core.edits.registry import Batch
from metaphon.core.measure.timecode import RATES
from metaphon.web.mixes.models import AudioFile, Mix
from metaphon.web.mixes.recordings import cues_in, kind_of
from metaphon.web.mixes.snapshots import document_of, recordings_of


@dataclass(frozen=True)
class ClipShown:
    """A clip on the time line: its recording, and its times in seconds of the mix."""

    place: int
    clip: Clip
    audio: AudioFile
    length_s: float

    @property
    def ends_s(self) -> float:
        """When it has ended."""
        return self.clip.start_s + self.length_s

    @property
    def recorded_s(self) -> float:
        """How long the whole recording is."""
        return self.audio.duration_s

    @property
    def has_cues(self) -> bool:
        """Whether its recording brings cues along."""
        return bool(cues_in(self.audio))

    @property
    def path(self) -> str:
        """What it is called in a command, from its track."""
        return f"clips/{self.place}"


@dataclass(frozen=True)
class TrackShown:
    """A track with its clips. `kind` says in words what it carries."""

    track: Track
    clips: list[ClipShown]
    kind: str
    peak_dbfs: float | None

    @property
    def channels(self) -> int:
        """How many its recordings have; 0 where there is none."""
        return self.clips[0].audio.channels if self.clips else 0

    @property
    def notices(self) -> list[str]:
        """What was done to its recordings as they came in, each once."""
        return list(dict.fromkeys(said for one in self.clips for said in one.audio.notices))

    @property
    def defined(self) -> AudioFile | None:
        """A recording of it that says what its channels are (ADM), of which a mix can be made."""
        return next((one.audio for one in self.clips if one.audio.is_defined), None)


def timeline(mix: Mix, strip_id: str = "", place: int = 0, marker_id: str = "") -> dict[str, Any]:
    """All tracks with their clips, how long the mix is, and what their headers say of time.

    With the clip that is chosen, by its track and its place on it, or the marker, by its id.
    """
    document, recordings = document_of(mix), recordings_of(mix)
    rows = [_shown(track, recordings) for track in document.tracks]
    marker = next((one for one in document.markers if one.id == marker_id), None)
    span_s = max((clip.ends_s for row in rows for clip in row.clips), default=0.0)
    row = next((row for row in rows if row.track.id == strip_id), None)
    return {
        "rows": rows,
        "row": row,
        "chosen": row.clips[place] if row and place < len(row.clips) else None,
        "markers": [
            {**one.model_dump(), "timecode": timecode_at(document, one.at_s)}
            for one in document.markers
        ],
        "marker": marker,
        "span_s": span_s,
        "scale_s": max(60.0, 2 * span_s),
        "by_reference": _by_reference(rows),
        "frame_rates": RATES,
        "marker_timecode": timecode_at(document, marker.at_s) if marker else "",
        "frame_rate": document.frame_rate,
        "starts": document.start_timecode,
    }


def _shown(track: Track, recordings: dict[Any, AudioFile]) -> TrackShown:
    clips = []
    for place, clip in enumerate(track.clips):
        audio = recordings[clip.file]
        length_s = heard_s(clip.in_s, clip.length_s, audio.duration_s)
        clips.append(ClipShown(place, clip, audio, length_s))
    peaks = [one.audio.sample_peak_dbfs for one in clips if one.audio.sample_peak_dbfs is not None]
    kind = kind_of(clips[0].audio.channels, track.layout) if clips else "no recording"
    return TrackShown(track, clips, kind, max(peaks, default=None))


def _by_reference(rows: list[TrackShown]) -> Batch | None:
    """The command that sets every clip by the time that its recording's header says.

    The earliest of them begins the mix. None where fewer than two headers say a time.
    """
    found = [
        (row.track.id, one, one.audio.time_reference_s)
        for row in rows
        for one in row.clips
        if one.audio.time_reference_s is not None
    ]
    if len(found) < 2:
        return None
    origin = min(reference for _, _, reference in found)
    return Batch(
        commands=tuple(
            MoveClip(
                strip=strip,
                place=one.place,
                start_s=round(reference - origin + one.clip.in_s, 6),
            )
            for strip, one, reference in found
        ),
        words=f"Placed {len(found)} clips by their time references",
    )
