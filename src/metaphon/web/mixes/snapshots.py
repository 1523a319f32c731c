"""The mix as frozen data, kept by state in each process.

Read once, and brought up to date by what the journal says.
"""

from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from pathlib import Path

from metaphon.core.document.difference import Change, inverted, with_changes
from metaphon.core.document.mix import Bus, Strip, Track
from metaphon.core.document.mix import Mix as Document
from metaphon.core.document.targets import bus_format
from metaphon.core.errors import InputError
from metaphon.web.mixes.models import AudioFile, JournalEntry, Mix
from metaphon.web.mixes.rows import read_document
from metaphon.web.mixes.stored_files import KEPT, local_path, name_of

_KEPT_MIXES = 12


@dataclass(frozen=True)
class Snapshot:
    """A mix at one state."""

    state: int
    revision: int
    document: Document


_newest: OrderedDict[tuple[int, object], Snapshot] = OrderedDict()


def snapshot_of(mix: Mix) -> Snapshot:
    """A mix as its row says it is. Raises InputError where its rows do not hang together."""
    held = _newest.get((mix.pk, mix.created_at))
    if held is not None and held.state == mix.state:
        _newest.move_to_end((mix.pk, mix.created_at))
        return held
    found = (_brought_up(held, mix) if held is not None else None) or _read_anew(mix)
    keep(mix, found)
    return found


def _read_anew(mix: Mix) -> Snapshot:
    """The mix as its rows are now, all of one state, though somebody may write them meanwhile."""
    while True:
        found = Snapshot(mix.state, mix.revision, read_document(mix))
        mix = Mix.objects.get(pk=mix.pk)
        if mix.state == found.state:
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
    changes = [change for entry in later for change in changes_of(entry)]
    return Snapshot(mix.state, mix.revision, with_changes(held.document, changes, KEPT))


def changes_of(entry: JournalEntry) -> list[Change]:
    """What an entry of the journal changed, in order."""
    return [Change.of(plain) for plain in entry.changes]


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
    newest = snapshot_of(mix)
    later = mix.journal.filter(revision__gt=revision, revision__lte=newest.revision)
    changes = [
        change for entry in later.order_by("-revision") for change in inverted(changes_of(entry))
    ]
    return with_changes(newest.document, changes, KEPT)


def recordings_of(mix: Mix) -> dict[Path, AudioFile]:
    """The recordings of a mix by where they lie on this machine."""
    return {local_path(audio): audio for audio in AudioFile.objects.filter(mix=mix)}


def channels_of(mix: Mix, strips: list[Strip]) -> dict[str, int]:
    """How many channels strips carry, by id; 0 for a track without a recording."""
    files = {
        strip.id: strip.clips[0].file
        for strip in strips
        if isinstance(strip, Track) and strip.clips
    }
    names = {path: name_of(path) for path in set(files.values())}
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
