"""Handover: choose formats, render them in one pass, hear, check and take them away."""

from contextlib import suppress

from django.db import transaction
from django.http import HttpRequest, HttpResponse, HttpResponseBase
from django.shortcuts import get_object_or_404, render

from metaphon.core.document.target_omissions import Loss, by_the_book_of_targets, in_no_target
from metaphon.core.document.targets import OFFERED, target_named
from metaphon.core.errors import InputError
from metaphon.web.handover.strip_chart import correlation_path
from metaphon.web.jobs.models import Render, RenderFile
from metaphon.web.jobs.tasks import render_mix
from metaphon.web.mixes.editing import after_edit, carry_out, editing
from metaphon.web.mixes.models import Mix, discard
from metaphon.web.mixes.permissions import changes_mix, mix_for
from metaphon.web.mixes.snapshots import channels_of_tracks, document_of
from metaphon.web.shell.fragments import fragment_of
from metaphon.web.shell.streaming import send_file

_CHOICES = {
    "container": (("wav", "WAV"), ("flac", "FLAC")),
    "bits": (("24", "24 bit"), ("16", "16 bit"), ("32f", "32 bit float")),
    "stems": (
        ("none", "No stems"),
        ("tracks", "Stem of each track"),
        ("buses", "Stem of each bus"),
    ),
}
_SHOWN = 12
_CONTENT_TYPES = {
    "wav": "audio/wav",
    "flac": "audio/flac",
    "json": "application/json",
    "txt": "text/plain; charset=utf-8",
}


def show(request: HttpRequest, mix_id: int) -> HttpResponse:
    mix = mix_for(request, mix_id)
    return render(
        request,
        "handover/show.html",
        {
            **editing(request, mix),
            **_targets(mix),
            **_renders(mix),
            "choices": _CHOICES,
            "heads": _heads(request),
        },
    )


def _heads(request: HttpRequest) -> list[tuple[str, str]]:
    """The heads of one's own that a render for headphones may be for: stored name and title."""
    own = getattr(request.user, "user_files", None)
    return [(row.file.name, row.name) for row in own.filter(kind="head")] if own else []


def _targets(mix: Mix) -> dict[str, object]:
    document = document_of(mix)
    chosen = set(document.targets)
    names = [*OFFERED, *sorted(chosen - set(OFFERED))]
    has_sound = any(track.clips and not track.resting for track in document.tracks)
    losses: list[Loss] = []
    notes: dict[str, list[str]] = {}
    with suppress(InputError):  # said by the findings
        channels = channels_of_tracks(mix, document)
        losses = in_no_target(document, channels)
        notes = by_the_book_of_targets(document, channels)
    return {
        "targets": [(target_named(name), name in chosen, notes.get(name, [])) for name in names],
        "losses": losses,
        "has_sound": has_sound,
    }


def _renders(mix: Mix) -> dict[str, object]:
    return {"renders": [_shown(row) for row in mix.renders.prefetch_related("files")[:_SHOWN]]}


def _shown(row: Render) -> dict[str, object]:
    files = list(row.files.all())
    results = [
        (file, correlation_path(file.history.get("correlation", [])))
        for file in files
        if file.kind == "audio"
    ]
    return {
        "row": row,
        "results": results,
        "papers": [file for file in files if file.kind != "audio"],
    }


@changes_mix
def edit(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Carry out a command; gives the targets anew."""
    mix, _ = carry_out(request, mix_id)
    return after_edit(request, mix, "handover/targets.html", _targets(mix))


@changes_mix
def start(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Queue a render of all chosen targets."""
    mix = mix_for(request, mix_id)
    options: dict[str, object] = {"targets": list(document_of(mix).targets)}
    for name, choices in _CHOICES.items():
        options[name] = request.POST.get(name, choices[0][0])
        if options[name] not in dict(choices):
            raise InputError(f"Choose {name} from the list.")
    options["head"] = request.POST.get("head", "")
    if options["head"] and options["head"] not in dict(_heads(request)):
        raise InputError("This head is no longer among yours; choose another.")
    if not options["targets"]:
        raise InputError("No target is chosen; choose at least one format to render.")
    if options["container"] == "flac" and options["bits"] == "32f":
        raise InputError("FLAC holds 16 or 24 bits; choose one of these, or WAV for 32 bit float.")
    _queue(mix, request.user.pk, options)
    return render(request, "handover/renders.html", {"mix": mix, "can_edit": True, **_renders(mix)})


def _queue(mix: Mix, user_id: int | None, options: dict[str, object]) -> None:
    with transaction.atomic():
        row = Render.objects.create(
            mix=mix, user_id=user_id, revision=mix.revision, options=options
        )
        render_mix.defer(render_id=row.pk)


def _render_of(request: HttpRequest, mix_id: int, render_id: int) -> tuple[Mix, Render]:
    mix = mix_for(request, mix_id)
    return mix, get_object_or_404(Render, pk=render_id, mix=mix)


@fragment_of("handover:show")
def progress(request: HttpRequest, mix_id: int, render_id: int) -> HttpResponse:
    mix, row = _render_of(request, mix_id, render_id)
    response = render(
        request, "handover/render.html", {"render": _shown(row), **editing(request, mix)}
    )
    if not row.is_open:
        response["HX-Trigger"] = "renders-changed"
    return response


@changes_mix
def cancel(request: HttpRequest, mix_id: int, render_id: int) -> HttpResponse:
    _render_of(request, mix_id, render_id)[1].ask_to_stop()
    return progress(request, mix_id, render_id)


@changes_mix
def retry(request: HttpRequest, mix_id: int, render_id: int) -> HttpResponse:
    """Render again with the same settings, of the mix as it is now."""
    mix, row = _render_of(request, mix_id, render_id)
    _queue(mix, request.user.pk, row.options)
    return render(request, "handover/renders.html", {"mix": mix, "can_edit": True, **_renders(mix)})


@changes_mix
def remove(request: HttpRequest, mix_id: int, render_id: int) -> HttpResponse:
    mix, row = _render_of(request, mix_id, render_id)
    if row.is_open:
        raise InputError("This render is still running; cancel it first.")
    discard(*(file.file for file in row.files.all()))
    row.delete()
    response = render(
        request, "handover/renders.html", {"mix": mix, "can_edit": True, **_renders(mix)}
    )
    response["HX-Trigger"] = "renders-changed"
    return response


def download(request: HttpRequest, mix_id: int, file_id: int) -> HttpResponseBase:
    mix = mix_for(request, mix_id)
    file = get_object_or_404(RenderFile, pk=file_id, render__mix=mix)
    return send_file(request, file.file, _CONTENT_TYPES[file.name.rsplit(".", 1)[-1]], file.name)
