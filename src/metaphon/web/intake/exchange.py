"""Clips and markers out to other programs, and in from them."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.utils.http import content_disposition_header

from metaphon.core.edits.registry import MOST_COMMANDS, Batch
from metaphon.core.engine.naming import safe_title
from metaphon.core.errors import InputError
from metaphon.core.files.apart import read_apart
from metaphon.core.files.edit_exchange import (
    Recording,
    clips_table,
    markers_table,
    to_timeline,
)
from metaphon.core.files.exchange_update import plan_update
from metaphon.web.intake.timeline import timeline
from metaphon.web.mixes.editing import after_edit, carry_out
from metaphon.web.mixes.permissions import changes_mix, mix_for
from metaphon.web.mixes.recordings import track_of
from metaphon.web.mixes.snapshots import document_of, recordings_of
from metaphon.web.mixes.stored_files import local_path

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
    """Show what a file of clips or markers would change; with `sure` carry it out as one step."""
    mix = mix_for(request, mix_id)
    file = request.FILES.get("file")
    if file is None:
        raise InputError("Choose a file to take in.")
    name = str(file.name or "This file")
    if (file.size or 0) > _LONGEST:
        raise InputError(f"{name} is too large for a list of clips; choose another file.")
    document = document_of(mix)
    try:
        text = file.read().decode("utf-8-sig")
    except UnicodeDecodeError:
        raise InputError(f"{name} is no text; export it as OTIO or CSV.") from None
    rows = {local_path(row): row for row in mix.audio_files.all()}
    recordings = {path: Recording(row.name, row.duration_s) for path, row in rows.items()}
    new_tracks = {path: track_of(row, document) for path, row in rows.items()}
    update = read_apart(plan_update, text, name, document, recordings, new_tracks, name=name)
    if len(update.commands) > MOST_COMMANDS:
        raise InputError(
            f"{name} would change {len(update.commands):,} things at once, and "
            f"{MOST_COMMANDS:,} can be; take a part of it. Nothing was changed."
        )
    if not update.commands and update.missing:
        wanted = ", ".join(update.missing[:4])
        raise InputError(f"None of its recordings is in this mix; bring in {wanted} first.")
    if not update.commands:
        raise InputError(f"All that {name} tells is in the mix already.")
    if "sure" not in request.POST:
        return render(request, "intake/exchange.html", {"update": update, "name": name})
    words = f"Took in {name}"[:255]
    commands = tuple(update.commands)
    mix, _ = carry_out(request, mix_id, Batch(commands=commands, words=words))
    response = after_edit(request, mix, "intake/timeline.html", timeline(mix))
    response["HX-Retarget"], response["HX-Reswap"] = "#tracks", "outerHTML"
    return response
