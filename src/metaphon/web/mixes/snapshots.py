"""The mix as frozen data, kept by state in each process.

Read once, and brought up to date by what the journal says.
"""

from collections import OrderedDict
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from functools import cache
from pathlib import Path

from django.conf import settings
from django.core.files.storage import default_storage

from metaphon.core.document.mix import Bus, Strip, Track
from metaphon.core.document.mix import Mix as Document
from metaphon.core.document.targets import bus_format
from metaphon.core.errors import InputError
from metaphon.web.mixes.models import AudioFile, Mix
from metaphon.web.mixes.rows import (
    AudioIds,
    Change,
    Difference,
    Files,
    Index,
    Rows,
    document_from,
    rows_of,
    with_changes,
)

_KEPT_MIXES = 12


@dataclass(frozen=True)
class Snapshot:
    """A mix at one state: its document, and the rows that say it."""

    state: int
    revision: int
    document: Document
    rows: Rows
    index: Index

    def after(self, changes: list[Change], state: int, revision: int, mix: Mix) -> "Snapshot":
        """What it is after changes to its rows; only what they touch is read anew."""
        rows = with_changes(self.rows, changes)
        index = Index.of(rows)
        touched = {key for change in changes for key in _strips_of(change, self.rows, rows)}
        known = {
            strip.id: strip
            for strip in self.document.strips
            if index.strips.get(strip.id) not in touched
        }
        moved = {change["id"] for change in changes if change["table"] == "Automation"}
        lanes = {
            lane.target: lane
            for lane in self.document.automation
            if index.lanes.get(lane.target) not in moved
        }
        return Snapshot(
            state, revision, document_from(rows, index, _files(mix), known, lanes), rows, index
        )

    def changes_to(self, document: Document, mix: Mix) -> list[Change]:
        """What must change in the rows for them to say another document."""
        return Difference(mix.pk, self.rows, self.index, _audio_ids(mix)).between(
            self.document, document
        )

    def with_document(
        self, document: Document, changes: list[Change], state: int, revision: int
    ) -> "Snapshot":
        """What it is after changes that are known to make a document."""
        rows = with_changes(self.rows, changes)
        return Snapshot(state, revision, document, rows, Index.of(rows))


def _strips_of(change: Change, before: Rows, after: Rows) -> Iterable[int]:
    """The ids of strips that a change of a row touches."""
    key = (change["table"], change["id"])
    for row in (before.get(key), after.get(key)):
        if row is not None:
            owner = {"Strip": "id", "Clip": "track_id", "Send": "source_id"}.get(
                change["table"], "strip_id"
            )
            if owner in row:
                yield row[owner]


_newest: OrderedDict[tuple[int, object], Snapshot] = OrderedDict()


def snapshot_of(mix: Mix) -> Snapshot:
    """A mix as its row says it is. Raises InputError where its rows do not hang together."""
    held = _newest.get((mix.pk, mix.created_at))
    if held is not None and held.state == mix.state:
        _newest.move_to_end((mix.pk, mix.created_at))
        return held
    found = _brought_up(held, mix) if held is not None else None
    if found is None:
        rows = rows_of(mix)
        index = Index.of(rows)
        found = Snapshot(
            mix.state, mix.revision, document_from(rows, index, _files(mix)), rows, index
        )
    keep(mix, found)
    return found


def _brought_up(held: Snapshot, mix: Mix) -> Snapshot | None:
    """A snapshot brought up to date by the journal.

    None where it is no earlier state of the mix.
    """
    if held.revision >= mix.revision:
        return None
    entries = list(
        mix.journal.filter(revision__gte=held.revision, revision__lte=mix.revision).order_by(
            "revision"
        )
    )
    if held.revision > 0 and (not entries or entries[0].pk != held.state):
        return None
    later = [entry for entry in entries if entry.revision > held.revision]
    if not later or later[-1].pk != mix.state:
        return None
    changes = [change for entry in later for change in entry.changes]
    return held.after(changes, mix.state, mix.revision, mix)


def keep(mix: Mix, snapshot: Snapshot) -> None:
    """Keep a snapshot as the newest of its mix in this process."""
    _newest[mix.pk, mix.created_at] = snapshot
    _newest.move_to_end((mix.pk, mix.created_at))
    while len(_newest) > _KEPT_MIXES:
        _newest.popitem(last=False)


def forget() -> None:
    """Keep nothing: every mix is read anew. For those who write rows without a command."""
    _newest.clear()


def document_of(mix: Mix) -> Document:
    """The whole mix as frozen data, its files absolute.

    Raises InputError where the rows do not hang together.
    """
    return snapshot_of(mix).document


def document_at(mix: Mix, revision: int) -> Document:
    """The mix as it was at a revision. Raises InputError for one that it never had."""
    if not 0 <= revision <= mix.revision:
        raise InputError("The history has no such state; choose another.")
    rows = snapshot_of(mix).rows
    for entry in mix.journal.filter(revision__gt=revision, revision__lte=mix.revision).order_by(
        "-revision"
    ):
        rows = with_changes(rows, entry.changes, forward=False)
    return document_from(rows, Index.of(rows), _files(mix))


def _files(mix: Mix) -> Files:
    """Where recordings lie, by the ids of their rows.

    The database is asked only where a clip is read.
    """
    found: dict[int, Path] = {}

    def path_of(audio_id: int) -> Path:
        if not found:
            found.update({audio.pk: path for path, audio in recordings_of(mix).items()})
        return found[audio_id]

    return path_of


def _audio_ids(mix: Mix) -> AudioIds:
    """The ids of recordings by where they lie.

    The database is asked only where a clip is written.
    """
    found: dict[Path, int] = {}

    def id_of(path: Path) -> int:
        if not found:
            found.update({file: audio.pk for file, audio in recordings_of(mix).items()})
        if path not in found:
            raise InputError(f"The recording {path.name} is not in this mix; bring it in first.")
        return found[path]

    return id_of


def recordings_of(mix: Mix) -> dict[Path, AudioFile]:
    """The recordings of a mix by where they lie on this machine."""
    return {local_path(audio): audio for audio in AudioFile.objects.filter(mix=mix)}


def local_path(file: AudioFile) -> Path:
    """Where a recording lies on this machine."""
    return Path(default_storage.path(str(file.file.name)))


def channels_of(mix: Mix, strips: list[Strip]) -> dict[str, int]:
    """How many channels strips carry, by id; 0 for a track without a recording."""
    files = {
        strip.id: strip.clips[0].file
        for strip in strips
        if isinstance(strip, Track) and strip.clips
    }
    root = Path(settings.MEDIA_ROOT)
    names = {path: str(path.relative_to(root)) for path in set(files.values())}
    known = AudioFile.objects.filter(mix=mix, file__in=names.values()).values_list(
        "file", "channels"
    )
    channels = dict(known)
    return {
        strip.id: bus_format(strip.layout).channels
        if isinstance(strip, Bus)
        else strip.channels(channels.get(names[files[strip.id]], 0))
        if isinstance(strip, Track) and strip.id in files
        else 0
        for strip in strips
    }


def channels_in(mix: Mix) -> Callable[[Path], int | None]:
    """How many channels a recording of a mix has, asked of the database when it is first wanted."""
    recordings = cache(lambda: _channels_by_path(mix))
    return lambda path: recordings().get(path)


def _channels_by_path(mix: Mix) -> dict[Path, int]:
    return {path: audio.channels for path, audio in recordings_of(mix).items()}


def channels_of_strips(mix: Mix, document: Document) -> dict[str, int]:
    """How many channels each bus and each track with a recording works with, by its id."""
    buses = {bus.id: bus_format(bus.layout).channels for bus in document.buses}
    return channels_of_tracks(mix, document) | buses


def channels_of_tracks(mix: Mix, document: Document) -> dict[str, int]:
    """How many channels each track works with, by its id.

    Tracks without one are left out.
    """
    channels = _channels_by_path(mix)
    return {
        track.id: track.channels(channels[track.clips[0].file])
        for track in document.tracks
        if track.clips
    }
