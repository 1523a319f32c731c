"""Flow: the map and the table of the routing, and the panel of one strip."""

import json

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from metaphon.core.document.mix import COLOURS
from metaphon.core.document.mix import Mix as Document
from metaphon.core.document.mix_layout import layout_of_mix
from metaphon.core.edits.command import strip_of
from metaphon.core.engine.plan import latency_samples
from metaphon.core.errors import InputError
from metaphon.core.process.registry import KINDS
from metaphon.web.flow.map import draw
from metaphon.web.flow.panel import panel as panel_of
from metaphon.web.flow.table import table
from metaphon.web.mixes.editing import after_edit, carry_out, editing, strips_changed
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.permissions import changes_mix, mix_for
from metaphon.web.mixes.snapshots import document_of
from metaphon.web.shell.fragments import fragment_of
from metaphon.web.shell.posted import number_in


def show(request: HttpRequest, mix_id: int) -> HttpResponse:
    """The workspace, as map or table, with the strip that is open beside it."""
    mix = mix_for(request, mix_id)
    document = document_of(mix)
    view = request.GET.get("view") or request.COOKIES.get("flow_view", "map")
    context = {
        **editing(request, mix),
        **table(mix, document),
        "view": "table" if view == "table" else "map",
        "latency": _latency(document),
        "own_layout": layout_of_mix(document),
        "kinds_offered": [(kind, model.title) for kind, model in KINDS.items()],
        "colours_offered": COLOURS,
        "prints": mix.prints.exclude(status="done")[:3],
    }
    strip = document.find_strip(request.GET.get("strip", ""))
    if strip:
        context |= panel_of(mix, document, strip, request.user, context, _open_part(request))
    response = render(request, "flow/show.html", context)
    if request.GET.get("view"):
        response.set_cookie("flow_view", str(context["view"]), max_age=31536000, samesite="Lax")
    return response


def _latency(document: Document) -> tuple[int, float]:
    """What the slowest way through the processors costs, in samples and ms; it is made up for."""
    try:
        samples = latency_samples(document)
    except InputError:
        samples = 0
    return samples, samples / document.sample_rate_hz * 1000.0


@fragment_of("flow:show")
def chart(request: HttpRequest, mix_id: int) -> HttpResponse:
    """The map, drawn to fit a width and height in pixels."""
    mix = mix_for(request, mix_id)

    def size(name: str, default: int, low: int, high: int) -> int:
        given = number_in(request.GET.get(name, ""))
        return default if given is None else min(max(given, low), high)

    drawing = draw(mix, size("width", 1240, 560, 4000), size("height", 600, 300, 4000))
    return render(request, "flow/map.html", {"mix": mix, "drawing": drawing})


@fragment_of("flow:show")
def panel(request: HttpRequest, mix_id: int, strip_id: str) -> HttpResponse:
    """The panel of one strip."""
    mix = mix_for(request, mix_id)
    document = document_of(mix)
    strip = strip_of(document, strip_id)
    part = _open_part(request)
    context = {**editing(request, mix), **panel_of(mix, document, strip, request.user, None, part)}
    return render(request, "flow/panel.html", context)


@changes_mix
def edit(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Carry out a command; gives what looks otherwise."""
    mix, applied = carry_out(request, mix_id)
    opened = request.headers.get("X-Panel", "")
    chains = [
        strip.chain if (strip := one.find_strip(opened)) else ()
        for one in (applied.before, applied.after)
    ]
    # what was just added to the chain is opened, and so is a new bus
    part = len(chains[1]) - 1 if len(chains[1]) > len(chains[0]) else None
    response = changed(request, mix, strips_changed(applied.before, applied.after), part)
    known = {bus.id for bus in applied.before.buses}
    made = [bus.id for bus in applied.after.buses if bus.id not in known]
    if len(made) == 1:
        response["HX-Trigger"] = json.dumps({"mix-edited": True, "strip-made": made[0]})
    return response


def _open_part(request: HttpRequest) -> int:
    """The processor whose controls the page shows."""
    return number_in(request.headers.get("X-Part", "")) or 0


def changed(
    request: HttpRequest, mix: Mix, strips: list[str] | None, part: int | None = None
) -> HttpResponse:
    """After an edit: the rows of these strips (None.

    The whole table) and the open panel, each at its place; `part` is the processor to open.
    """
    document = document_of(mix)
    context = {
        **table(mix, document, strips),
        "whole": strips is None,
        "in_table": request.headers.get("X-View", "table") == "table",
        "oob": True,
    }
    opened = document.find_strip(request.headers.get("X-Panel", ""))
    if opened:
        shown = _open_part(request) if part is None else part
        context |= panel_of(mix, document, opened, request.user, context, shown)
    return after_edit(request, mix, "flow/changed.html", context)
