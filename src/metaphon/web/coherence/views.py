"""Coherence: what is in phase, what is not, what a mend would do, and doing it."""

import json
from collections.abc import Iterable
from typing import Any

from django.http import HttpRequest, HttpResponse, JsonResponse, QueryDict
from django.shortcuts import get_object_or_404, render
from django.urls import reverse

from metaphon.core.document.part import LATEST_S
from metaphon.core.edits.command import apply
from metaphon.core.edits.registry import read
from metaphon.core.edits.typed_values import read_number
from metaphon.core.errors import InputError
from metaphon.web.coherence import equaliser, fold, pairs, phase, width
from metaphon.web.jobs.models import FoldDownReport
from metaphon.web.jobs.tasks import ask_for_report, ask_for_survey
from metaphon.web.mixes.editing import after_edit, carry_out, editing
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.permissions import changes_mix, mix_for
from metaphon.web.mixes.snapshots import document_of
from metaphon.web.shell.fragments import fragment_of
from metaphon.web.shell.posted import data_in
from metaphon.web.shell.workspaces import workspace_named

VIEWS = workspace_named("coherence").views
_SHOWN = {
    "pairs": pairs.shown,
    "phase": phase.shown,
    "fold": fold.shown,
    "equaliser": equaliser.shown,
    "width": width.shown,
}
LONGEST_FOLLOWED_S = 600.0
_PARTS = {
    "pairs": "coherence/pair.html",
    "equaliser": "coherence/equaliser_board.html",
    "width": "coherence/width_board.html",
}


def show(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Recordings held against each other, what chains do to phase and level, what folds lose."""
    mix = mix_for(request, mix_id)
    view = _view(request, _SHOWN)
    context = {**editing(request, mix), "views": VIEWS, "view": view, **_shown(request, mix, view)}
    return render(request, f"coherence/{view}.html", context)


@fragment_of("coherence:show")
def pair(request: HttpRequest, mix_id: int) -> HttpResponse:
    """The pair anew: another span, another zoom, another mend that is tried."""
    mix = mix_for(request, mix_id)
    found = _shown(request, mix, "pairs")
    if "said" in found:
        raise InputError(str(found["said"]))
    response = render(request, "coherence/pair.html", {**editing(request, mix), **found})
    # drawn anew for whatever reason, it is the same pair
    address = reverse("coherence:show", args=[mix.pk])
    response["HX-Replace-Url"] = f"{address}?{found['query']}"
    return response


@fragment_of("coherence:show")
def likely(request: HttpRequest, mix_id: int) -> HttpResponse:
    """The list of pairs that recorded one sound, and whether it is still searched for."""
    mix = mix_for(request, mix_id)
    shown = pairs.likely(mix, document_of(mix), request.GET)
    if not shown["fresh"]:
        ask_for_survey(mix)
    return render(request, "coherence/likely.html", {"mix": mix, **shown})


@changes_mix
def edit(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Carry out a command; gives what the view shows as the mix then has it."""
    mix, applied = carry_out(request, mix_id)
    view = _view(request, _PARTS)
    if view == "pairs":
        ask_for_survey(mix)
    response = after_edit(request, mix, _PARTS[view], _shown(request, mix, view))
    before, after = (
        [[one.kind for one in strip.chain] for strip in document.strips]
        for document in (applied.before, applied.after)
    )
    if before != after:  # the list of chains beside it is another
        response["HX-Trigger"] = "mix-edited, mix-changed"
    return response


@changes_mix
def align_group(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Align all of a group to the first of the pair, as one step."""
    mix = mix_for(request, mix_id)
    document = document_of(mix)
    chosen = pairs.chosen_from(request.GET, document, pairs.offered_pairs(mix, document))
    command, said = pairs.group_command(mix, document, chosen, request.POST.get("group", ""))
    response = _mended(request, mix_id, command)
    response["HX-Trigger"] = json.dumps({"say": {"message": said}, "mix-edited": True})
    return response


@changes_mix
def follow(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Draw the delay of the other over a span as a lane, so that it stays with the first."""
    mix = mix_for(request, mix_id)
    document = document_of(mix)
    chosen = pairs.chosen_from(request.GET, document, pairs.offered_pairs(mix, document))
    start_s, end_s = (
        read_number(request.POST.get(name, ""), words, 0.0, LATEST_S, "s")
        for name, words in (("follow_from_s", "The start"), ("follow_to_s", "The end"))
    )
    if not 1.0 <= end_s - start_s <= LONGEST_FOLLOWED_S:
        raise InputError("A span of 1 s to 10 minutes can be followed; type another end.")
    most = read_number(request.POST.get("most_ms_a_s", ""), "The rate", 0.1, 20.0, "ms/s")
    return _mended(request, mix_id, pairs.follow_command(document, chosen, (start_s, end_s), most))


def _mended(request: HttpRequest, mix_id: int, command: dict[str, Any]) -> HttpResponse:
    mix, _ = carry_out(request, mix_id, read(command))
    ask_for_survey(mix)
    return after_edit(request, mix, _PARTS["pairs"], _shown(request, mix, "pairs"))


@fragment_of("coherence:show")
def curves(request: HttpRequest, mix_id: int) -> HttpResponse:
    """The curves of an equaliser as a command would have them that is tried, not kept."""
    document = document_of(mix_for(request, mix_id))
    tried = apply(document, read(data_in(request.GET.get("command", ""))))
    return JsonResponse(equaliser.curves(tried, request.GET))


@fragment_of("coherence:show")
def width_picture(request: HttpRequest, mix_id: int) -> HttpResponse:
    """The picture of a strip's width as a command would have it that is tried, not kept."""
    mix = mix_for(request, mix_id)
    document = apply(document_of(mix), read(data_in(request.GET.get("command", ""))))
    return render(request, "coherence/width_picture.html", width.tried(document, request.GET))


@changes_mix
def measure_fold(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Queue a fold-down report of the mix, or of a strip of it."""
    mix = mix_for(request, mix_id)
    strip_id = request.POST.get("strip", "")
    ask_for_report(FoldDownReport, mix, request.user.pk, strip_id)
    return _fold_drawn(request, mix, strip_id)


@fragment_of("coherence:show")
def fold_progress(request: HttpRequest, mix_id: int) -> HttpResponse:
    """A fold-down report that is being measured, or has been."""
    return _fold_drawn(request, mix_for(request, mix_id), request.GET.get("strip", ""))


@changes_mix
def cancel_fold(request: HttpRequest, mix_id: int, report_id: int) -> HttpResponse:
    """Leave off measuring; what was measured before is shown again."""
    mix = mix_for(request, mix_id)
    row = get_object_or_404(FoldDownReport, pk=report_id, mix=mix)
    row.ask_to_stop()
    return _fold_drawn(request, mix, row.options["strip"])


def _fold_drawn(request: HttpRequest, mix: Mix, strip_id: str) -> HttpResponse:
    asked = QueryDict(mutable=True)
    asked["strip"] = strip_id
    found = fold.shown(mix, document_of(mix), asked)
    return render(request, "coherence/fold_report.html", {**editing(request, mix), **found})


def _view(request: HttpRequest, among: Iterable[str]) -> str:
    wanted = request.GET.get("view", "")
    return wanted if wanted in among else "pairs"


def _shown(request: HttpRequest, mix: Mix, view: str) -> dict[str, object]:
    return _SHOWN[view](mix, document_of(mix), request.GET)
