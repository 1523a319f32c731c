"""Clips and markers out to other programs, and in from them."""

from pathlib import Path

from django.http import HttpRequest, HttpResponse
from django.utils.http import content_disposition_header

from metaphon.core.document.mix import Mix as Document
from metaphon.core.edits.clips import SetClips
from metaphon.core.edits.command import Command
from metaphon.core.edits.markers import AddMarker
from metaphon.core.edits.registry import Batch
from metaphon.core.edits.structure import Note
from metaphon.core.edits.values import SetValue
from metaphon.core.engine.naming import safe_title
from metaphon.core.errors import InputError
from metaphon.core.files.edit_exchange import (
    Exchange,
    Look,
    Recording,
    clips_for,
    clips_table,
    markers_table,
    taken,
    to_timeline,
)
from metaphon.web.intake.timeline import timeline
from metaphon.web.mixes.editing import after_edit, carry_out
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.permissions import changes_mix, mix_for
from metaphon.web.mixes.recordings import track_of
from metaphon.web.mixes.snapshots import document_of, local_path, recordings_of

_LONGEST = 20_000_000
_KINDS = {
    "otio": ("application/json", "otio"),
    "clips": ("text/csv; charset=utf-8", "csv"),
    "markers": ("text/csv; charset=utf-8", "csv"),
}


def give(request: HttpRequest, mix_id: int, kind: str) -> HttpResponse:
    """The clips and markers of a mix as a file."""
    mix = mix_for(request, mix_id)
    if kind not in _KINDS:
        raise InputError("Choose what to take out from the list.")
    document = document_of(mix)
    held = recordings_of(mix)
    named = {path: Recording(one.name, one.duration_s) for path, one in held.items()}
    text = {
        "otio": lambda: to_timeline(document, named),
        "clips": lambda: clips_table(document, named),
        "markers": lambda: markers_table(document),
    }[kind]()
    content_type, suffix = _KINDS[kind]
    response = HttpResponse(text, content_type=content_type)
    name = f"{safe_title(mix.title)}{'' if kind == 'otio' else f'_{kind}'}.{suffix}"
    response["Content-Disposition"] = content_disposition_header(True, name) or "attachment"
    return response


@changes_mix
def take(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Make tracks of the clips that a file tells of, and set its markers, as one step."""
    mix = mix_for(request, mix_id)
    file = request.FILES.get("file")
    if file is None:
        raise InputError("Choose a file to take in.")
    name = str(file.name or "This file")
    if (file.size or 0) > _LONGEST:
        raise InputError(f"{name} is too large for a list of clips; choose another file.")
    try:
        found = taken(file.read().decode(), name)
    except UnicodeDecodeError:
        raise InputError(f"{name} is no text; export it as OTIO or CSV.") from None
    commands = [*_tracks(mix, found, name), *_markers(mix, found)]
    if not commands:
        raise InputError(f"All that {name} tells is in the mix already.")
    words = f"Took in {name}"[:255]
    mix, _ = carry_out(request, mix_id, Batch(commands=tuple(commands[:1000]), words=words))
    return after_edit(request, mix, "intake/timeline.html", timeline(mix))


def _tracks(mix: Mix, found: Exchange, name: str) -> list[Command]:
    rows = {local_path(row): row for row in mix.audio_files.all()}
    files = {row.name.casefold(): path for path, row in rows.items()}
    files = {Path(row.name).stem.casefold(): path for path, row in rows.items()} | files
    clips = clips_for(found.clips, files)
    if found.clips and not clips:
        wanted = ", ".join(sorted({one.recording for one in found.clips})[:4])
        raise InputError(f"None of its recordings is in this mix; bring in {wanted} first.")
    commands: list[Command] = []
    held: Document = document_of(mix)
    for track, own in clips.items():
        made = track_of(rows[own[0].file]).model_copy(update={"name": track[:110] or "Track"})
        held = made.apply(held)
        placed = SetClips(strip=held.tracks[-1].id, clips=own)
        held = placed.apply(held)
        look = found.looks.get(track, Look())
        commands += [made, placed, *_looking(held.tracks[-1].id, look)]
    return commands


def _looking(strip: str, look: Look) -> list[Command]:
    colour = SetValue(strips=(strip,), path="colour", value=look.colour)
    return [
        *([colour] if look.colour != "none" else []),
        *([Note(strip=strip, note=look.note)] if look.note else []),
    ]


def _markers(mix: Mix, found: Exchange) -> list[Command]:
    there = {(marker.at_s, marker.name) for marker in document_of(mix).markers}
    fresh = [(round(at_s, 6), name.strip()) for at_s, name in found.markers]
    return [AddMarker(at_s=at_s, name=name) for at_s, name in fresh if (at_s, name) not in there]
