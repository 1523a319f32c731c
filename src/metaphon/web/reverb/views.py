"""Reverb: the tails of shared spaces, measured, and who sends how much to which."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from metaphon.web.mixes.editing import after_edit, carry_out, editing
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.permissions import changes_mix, mix_for
from metaphon.web.mixes.snapshots import document_of
from metaphon.web.reverb import sends, tails
from metaphon.web.shell.workspaces import workspace_named

VIEWS = workspace_named("reverb").views
_SHOWN = {"tail": tails.shown, "sends": sends.shown}
_PARTS = {"tail": "reverb/tail_board.html", "sends": "reverb/sends_board.html"}


def show(request: HttpRequest, mix_id: int) -> HttpResponse:
    """A space and how it dies away, or all sends to all spaces."""
    mix = mix_for(request, mix_id)
    view = _view(request)
    context = {**editing(request, mix), "views": VIEWS, "view": view, **_shown(request, mix, view)}
    return render(request, f"reverb/{view}.html", context)


@changes_mix
def edit(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Carry out a command; gives what the view shows as the mix then has it."""
    mix, _ = carry_out(request, mix_id)
    view = _view(request)
    return after_edit(request, mix, _PARTS[view], _shown(request, mix, view))


def _view(request: HttpRequest) -> str:
    wanted = request.GET.get("view", "")
    return wanted if wanted in _SHOWN else "tail"


def _shown(request: HttpRequest, mix: Mix, view: str) -> dict[str, object]:
    return _SHOWN[view](mix, document_of(mix), request.GET)
