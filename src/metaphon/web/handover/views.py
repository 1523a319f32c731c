"""Handover: choose formats, render them in one pass, hear, check and take them away."""

import json
from contextlib import suppress

from django.db import transaction
from django.http import HttpRequest, HttpResponse, HttpResponseBase
from django.shortcuts import get_object_or_404, render

from metaphon.core.document.handover import Handover, asked
from metaphon.core.document.target_omissions import Loss, by_the_book_of_targets, in_no_target
from metaphon.core.document.targets import target_named
from metaphon.core.engine.naming import safe_title
from metaphon.core.errors import InputError
from metaphon.web.audit.models import AuditEntry
from metaphon.web.audit.recording import record_event
from metaphon.web.handover import alternatives, platform, translation
from metaphon.web.handover.asking import KINDS, counted, form, further, matrix, posted, wish_of
from metaphon.web.handover.strip_chart import correlation_path
from metaphon.web.jobs.models import Render, RenderFile
from metaphon.web.jobs.rendering import asked_of
from metaphon.web.jobs.tasks import render_mix
from metaphon.web.mixes.editing import after_edit, carry_out, editing
from metaphon.web.mixes.models import Mix, discard
from metaphon.web.mixes.permissions import changes_mix, mix_for
from metaphon.web.mixes.snapshots import channels_of_tracks, document_of
from metaphon.web.shell.fragments import fragment_of
from metaphon.web.shell.streaming import send_file, send_package
from metaphon.web.shell.workspaces import workspace_named

VIEWS = workspace_named("handover").views
_RENDERS_SHOWN = 12
_CONTENT_TYPES = {
    "wav": "audio/wav",
    "flac": "audio/flac",
    "json": "application/json",
    "txt": "text/plain; charset=utf-8",
    "xml": "application/xml",
}


def show(request: HttpRequest, mix_id: int) -> HttpResponse:
    mix = mix_for(request, mix_id)
    view = request.GET.get("view", "")
    view = view if view in _SHOWN else "formats"
    context = {**editing(request, mix), "views": VIEWS, "view": view, **_SHOWN[view](request, mix)}
    return render(request, f"handover/{view}.html", context)


def _formats(request: HttpRequest, mix: Mix) -> dict[str, object]:
    return {
        **_targets(request, mix),
        **_renders(mix),
        **form(request, mix),
        "files": counted(wish_of(request, mix), document_of(mix)),
    }


def _targets(request: HttpRequest, mix: Mix) -> dict[str, object]:
    document = document_of(mix)
    losses: list[Loss] = []
    notes: dict[str, list[str]] = {}
    with suppress(InputError):  # said by the findings
        channels = channels_of_tracks(mix, document)
        losses = in_no_target(document, channels)
        notes = by_the_book_of_targets(document, channels)
    return {
        "rows": matrix(request, mix),
        "further": further(request, mix),
        "kinds": KINDS,
        "losses": losses,
        "notes": [(target_named(name).title, said) for name, said in notes.items() if said],
        "has_alternatives": bool(document.alternatives.programmes),
        "has_sound": any(track.clips and not track.resting for track in document.tracks),
    }


def _renders(mix: Mix) -> dict[str, object]:
    rows = mix.renders.prefetch_related("files", "decisions__user")
    return {"renders": [_shown(row) for row in rows[:_RENDERS_SHOWN]]}


def _shown(row: Render) -> dict[str, object]:
    done = row.mix.renders.filter(status=Render.Status.DONE, pk__lt=row.pk)
    files = list(row.files.all())
    sounds = [file for file in files if file.kind == "audio"]
    return {
        "row": row,
        "asked": asked_of(row),
        "results": [
            (file, correlation_path(file.history.get("correlation", [])))
            for file in sounds
            if not file.stem
        ],
        "stems": [file for file in sounds if file.stem],
        "papers": [file for file in files if file.kind != "audio"],
        "bytes": sum(file.bytes for file in files),
        "verdict": _worst(sounds),
        "former": done.first() if row.status == Render.Status.DONE else None,
    }


def _worst(files: list[RenderFile]) -> str:
    """The gravest of the verdicts on files, a word; empty where none was given."""
    words = {(file.figures.get("verdict") or {}).get("word", "") for file in files}
    return next((word for word in ("fail", "warn", "pass") if word in words), "")


@changes_mix
def edit(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Carry out a command; gives the targets anew."""
    mix, _ = carry_out(request, mix_id)
    files = counted(wish_of(request, mix), document_of(mix))
    shown = {**_targets(request, mix), "files": files, "oob": True}
    return after_edit(request, mix, "handover/targets.html", shown)


@changes_mix
def start(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Queue a render of all that is chosen."""
    mix = mix_for(request, mix_id)
    wanted = asked(posted(request).model_dump())
    _queue(mix, request.user.pk, wanted, request.POST.get("label", ""), mix.revision)
    return _all_renders(request, mix)


def _queue(mix: Mix, user_id: int | None, wanted: Handover, label: str, revision: int) -> None:
    with transaction.atomic():
        row = Render.objects.create(
            mix=mix,
            user_id=user_id,
            revision=revision,
            label=label.strip()[:80],
            options=wanted.model_dump(mode="json"),
        )
        render_mix.defer(render_id=row.pk)
        record_event(AuditEntry.Kind.HANDED_OVER, mix=mix, details=f"{row.label} {row.pk}".strip())


def _all_renders(request: HttpRequest, mix: Mix) -> HttpResponse:
    return render(request, "handover/renders.html", {**editing(request, mix), **_renders(mix)})


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
    """Render again with the same settings, of the mix as it is now, or with `exactly` as it was."""
    mix, row = _render_of(request, mix_id, render_id)
    revision = row.revision if "exactly" in request.POST else mix.revision
    _queue(mix, request.user.pk, asked_of(row), row.label, revision)
    return _all_renders(request, mix)


@changes_mix
def remove(request: HttpRequest, mix_id: int, render_id: int) -> HttpResponse:
    mix, row = _render_of(request, mix_id, render_id)
    if row.is_open:
        raise InputError("This render is still running; cancel it first.")
    discard(*(file.file for file in row.files.all()))
    row.delete()
    response = _all_renders(request, mix)
    response["HX-Trigger"] = "renders-changed"
    return response


@changes_mix
def name(request: HttpRequest, mix_id: int, render_id: int) -> HttpResponse:
    """Give a handover another label."""
    _, row = _render_of(request, mix_id, render_id)
    row.label = request.POST.get("label", "").strip()[:80]
    row.save(update_fields=["label"])
    return progress(request, mix_id, render_id)


def report(request: HttpRequest, mix_id: int, render_id: int) -> HttpResponse:
    """All that is known of a handover on one page, to be read or printed."""
    mix, row = _render_of(request, mix_id, render_id)
    file = row.files.filter(kind="json").first()
    if file is None:
        raise InputError("This handover is not ready yet; wait until it is done.")
    with file.file.open("rb") as held:
        told = json.load(held)
    return render(request, "handover/report.html", {"mix": mix, "row": row, "told": told})


def package(request: HttpRequest, mix_id: int, render_id: int) -> HttpResponseBase:
    """All files of a handover as one ZIP, with its report and a list of checksums."""
    _, row = _render_of(request, mix_id, render_id)
    files = list(row.files.all())
    if row.status != Render.Status.DONE:
        raise InputError("This handover is not ready yet; wait until it is done.")
    sums = "".join(
        f"{file.figures['sha256']}  {file.name}\n" for file in files if "sha256" in file.figures
    )
    stem = safe_title(f"{row.mix.title} {row.label or row.pk}")
    record_event(AuditEntry.Kind.DOWNLOADED, mix=row.mix, details=f"{stem}.zip")
    return send_package(
        [(file.name, file.file) for file in files], {"SHA256SUMS": sums}, f"{stem}.zip"
    )


def download(request: HttpRequest, mix_id: int, file_id: int) -> HttpResponseBase:
    mix = mix_for(request, mix_id)
    file = get_object_or_404(RenderFile, pk=file_id, render__mix=mix)
    if "Range" not in request.headers:  # in ranges a browser plays it
        record_event(AuditEntry.Kind.DOWNLOADED, mix=mix, details=file.name)
    return send_file(request, file.file, _CONTENT_TYPES[file.name.rsplit(".", 1)[-1]], file.name)


_SHOWN = {
    "formats": _formats,
    "alternatives": alternatives.shown,
    "receiver": alternatives.receiver,
    "translation": translation.page,
    "platform": platform.shown,
}
