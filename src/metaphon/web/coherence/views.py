"""Coherence: what is in phase, what is not, what a mend would do, and doing it."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from metaphon.core.errors import InputError
from metaphon.web.coherence import pairs, phase
from metaphon.web.jobs.tasks import ask_for_survey
from metaphon.web.mixes.editing import after_edit, carry_out, editing
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.permissions import changes_mix, mix_for
from metaphon.web.mixes.snapshots import document_of
from metaphon.web.shell.fragments import fragment_of
from metaphon.web.shell.workspaces import workspace_named

VIEWS = workspace_named("coherence").views


def show(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Two recordings held against each other, or what a chain does to phase."""
    mix = mix_for(request, mix_id)
    view = "phase" if request.GET.get("view") == "phase" else "pairs"
    context = {**editing(request, mix), "views": VIEWS, "view": view, **_shown(request, mix, view)}
    return render(request, f"coherence/{view}.html", context)


@fragment_of("coherence:show")
def pair(request: HttpRequest, mix_id: int) -> HttpResponse:
    """The pair anew: another span, another zoom, another mend that is tried."""
    mix = mix_for(request, mix_id)
    found = _shown(request, mix, "pairs")
    if "said" in found:
        raise InputError(str(found["said"]))
    return render(request, "coherence/pair.html", {**editing(request, mix), **found})


@changes_mix
def edit(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Carry out a command; gives the pair anew as the mix then has it."""
    mix, _ = carry_out(request, mix_id)
    ask_for_survey(mix)
    return after_edit(request, mix, "coherence/pair.html", _shown(request, mix, "pairs"))


def _shown(request: HttpRequest, mix: Mix, view: str) -> dict[str, object]:
    made = phase.shown if view == "phase" else pairs.shown
    return made(mix, document_of(mix), request.GET)
