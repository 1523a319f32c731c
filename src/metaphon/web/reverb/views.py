"""Reverb: the tails of shared spaces, who sends how much to which, and spaces that are made."""

import os
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

from django.core.files.uploadedfile import TemporaryUploadedFile
from django.http import FileResponse, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render

from metaphon.core.edits.command import apply
from metaphon.core.edits.registry import read
from metaphon.core.errors import InputError
from metaphon.core.sound_file import open_sound
from metaphon.core.spaces.response_files import write_sofa, write_wav
from metaphon.core.spaces.space import Space
from metaphon.web.jobs.models import SpaceSimulation
from metaphon.web.mixes.editing import after_edit, carry_out, editing
from metaphon.web.mixes.models import Mix, SpaceResponse
from metaphon.web.mixes.permissions import changes_mix, mix_for
from metaphon.web.mixes.responses import with_files_of
from metaphon.web.mixes.snapshots import document_of
from metaphon.web.mixes.stored_files import path_of
from metaphon.web.reverb import building, catalogue, decays, sends, tails
from metaphon.web.shell.bodies import takes
from metaphon.web.shell.fragments import fragment_of
from metaphon.web.shell.posted import data_in, number_in
from metaphon.web.shell.workspaces import workspace_named

VIEWS = workspace_named("reverb").views
_SHOWN = {"tail": tails.shown, "sends": sends.shown, "build": building.shown}
_PARTS = {"tail": "reverb/tail_board.html", "sends": "reverb/sends_board.html"}
_WRITERS: dict[str, Callable[..., None]] = {"wav": write_wav, "sofa": write_sofa}


def show(request: HttpRequest, mix_id: int) -> HttpResponse:
    """A space and how it dies away, all sends to all spaces, or how a space is made."""
    mix = mix_for(request, mix_id)
    view = _view(request)
    context = {
        **editing(request, mix),
        "views": VIEWS,
        "view": view,
        "starts_with": catalogue.STARTS_WITH,
        **_shown(request, mix, view),
    }
    return render(request, f"reverb/{view}.html", context)


@changes_mix
def edit(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Carry out a command; gives what the view shows as the mix then has it."""
    mix, applied = carry_out(request, mix_id)
    view = _view(request)
    part = _PARTS.get(view, _PARTS["tail"])
    response = after_edit(request, mix, part, _shown(request, mix, view))
    before, after = (
        [strip.id for strip in tails.spaces_in(document)]
        for document in (applied.before, applied.after)
    )
    if before != after:  # the list of spaces beside it is another
        response["HX-Trigger"] = "mix-edited, mix-changed"
    return response


@fragment_of("reverb:show")
def decay_line(request: HttpRequest, mix_id: int) -> HttpResponse:
    """The line of the decay that a command would set, tried and not kept."""
    mix = mix_for(request, mix_id)
    document = document_of(mix)
    command = read(data_in(request.GET.get("command", "")))
    command = with_files_of(command, mix, request.user)
    strip = apply(document, command).find_strip(request.GET.get("strip", ""))
    place = number_in(request.GET.get("place", "")) or 0
    if strip is None or place >= len(strip.chain):
        raise InputError("This reverb is no longer there; look again.")
    return HttpResponse(decays.set_line(strip.chain[place], document.sample_rate_hz))


@fragment_of("reverb:show")
def described(request: HttpRequest, mix_id: int) -> HttpResponse:
    """The plan of a space and what its decay will be, as its form has it now."""
    mix = mix_for(request, mix_id)
    space = building.space_from(request.GET, mix.sample_rate_hz)
    return render(request, "reverb/plan.html", {"mix": mix, **building.described(space)})


@fragment_of("reverb:show")
def fields(request: HttpRequest, mix_id: int) -> HttpResponse:
    """The form with a microphone more or one fewer."""
    mix = mix_for(request, mix_id)
    space = building.space_from(request.GET, mix.sample_rate_hz)
    wanted = number_in(request.GET.get("microphones", "")) or 1
    wanted = min(max(wanted, 1), building.MOST_MICROPHONES)
    found = space.microphones[:wanted]
    while len(found) < wanted:
        found = (*found, found[-1].model_copy(update={"title": f"Microphone {len(found) + 1}"}))
    space = space.model_copy(update={"microphones": found})
    context = {**editing(request, mix), **building.described(space)}
    return render(request, "reverb/space_fields.html", context)


@changes_mix
def simulate(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Queue a space to be simulated."""
    mix = mix_for(request, mix_id)
    building.simulate(request, mix)
    return _drawn(request, mix)


@fragment_of("reverb:show")
def progress(request: HttpRequest, mix_id: int) -> HttpResponse:
    """How far the simulation is, and the responses there are."""
    return _drawn(request, mix_for(request, mix_id))


@changes_mix
def cancel(request: HttpRequest, mix_id: int, simulation_id: int) -> HttpResponse:
    """Leave off simulating."""
    mix = mix_for(request, mix_id)
    get_object_or_404(SpaceSimulation, pk=simulation_id, mix=mix).ask_to_stop()
    return _drawn(request, mix)


@takes(256)
@changes_mix
def bring(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Take in a response from a file."""
    file = request.FILES.get("file")
    if not isinstance(file, TemporaryUploadedFile):
        raise InputError("No file arrived; choose it again.")
    name = os.path.basename(file.name or "file")[:200]
    building.bring(Path(file.temporary_file_path()), name, request.user)
    return _drawn(request, mix_for(request, mix_id))


@changes_mix
def share(request: HttpRequest, mix_id: int, response_id: int) -> HttpResponse:
    """Let everybody here use a response of one's own, or nobody else any more."""
    mix = mix_for(request, mix_id)
    row = _own(request, response_id)
    row.shared = not row.shared
    row.save(update_fields=["shared"])
    return _drawn(request, mix)


@changes_mix
def forget(request: HttpRequest, mix_id: int, response_id: int) -> HttpResponse:
    """Delete a response of one's own that no mix uses."""
    mix = mix_for(request, mix_id)
    building.let_go(_own(request, response_id), request.user)
    return _drawn(request, mix)


def give(request: HttpRequest, mix_id: int, response_id: int, form: str) -> FileResponse:
    """A response as a WAV or SOFA file."""
    mix_for(request, mix_id)
    own = {one.pk: one for one in catalogue.responses_of(request.user)}
    row = own.get(response_id)
    if row is None or form not in _WRITERS:
        raise InputError("This response is not there; choose another.")
    with open_sound(path_of(row.stored_as)) as file:
        sound, rate_hz = file.read(dtype="float32", always_2d=True), file.samplerate
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"response.{form}"
        if form == "sofa":
            space = Space.model_validate(row.space) if row.space else None
            write_sofa(path, sound.T, rate_hz, space)
        else:
            write_wav(path, sound.T, rate_hz)
        held = path.open("rb")  # still there for the answer when the folder is gone
    title = "_".join(str(row).replace(",", "").split())
    return FileResponse(held, as_attachment=True, filename=f"{title}.{form}")


def _own(request: HttpRequest, response_id: int) -> SpaceResponse:
    return get_object_or_404(SpaceResponse, pk=response_id, user=request.user.pk)


def _drawn(request: HttpRequest, mix: Mix) -> HttpResponse:
    found = _shown(request, mix, "build")
    return render(request, "reverb/responses.html", {**editing(request, mix), **found})


def _view(request: HttpRequest) -> str:
    wanted = request.GET.get("view", "")
    return wanted if wanted in _SHOWN else "tail"


def _shown(request: HttpRequest, mix: Mix, view: str) -> dict[str, Any]:
    return _SHOWN[view](mix, document_of(mix), request.GET, request.user)
