"""Coherence: what is in phase, what is not, what a mend would do, and doing it."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from metaphon.web.coherence.pairs import shown
from metaphon.web.jobs.tasks import ask_for_survey
from metaphon.web.mixes.editing import after_edit, carry_out, editing
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.permissions import changes_mix, mix_for
from metaphon.web.mixes.snapshots import document_of
from metaphon.web.shell.fragments import fragment_of


def show(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Two recordings held against each other; the likeliest pair where none is named."""
    mix = mix_for(request, mix_id)
    return render(request, "coherence/show.html", {**editing(request, mix), **_shown(request, mix)})


@fragment_of("coherence:show")
def pair(request: HttpRequest, mix_id: int) -> HttpResponse:
    """The pair anew: another span, another zoom, another mend that is tried."""
    mix = mix_for(request, mix_id)
    return render(request, "coherence/pair.html", {**editing(request, mix), **_shown(request, mix)})


@changes_mix
def edit(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Carry out a command; gives the pair anew as the mix then has it."""
    mix, _ = carry_out(request, mix_id)
    ask_for_survey(mix)
    return after_edit(request, mix, "coherence/pair.html", _shown(request, mix))


def _shown(request: HttpRequest, mix: Mix) -> dict[str, object]:
    return shown(mix, document_of(mix), request.GET)
