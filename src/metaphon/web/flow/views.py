"""Flow: the map and the table of the routing, and the panel of one strip."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render

from metaphon.core.engine.plan import latency_samples
from metaphon.core.errors import InputError
from metaphon.web.flow.map import draw
from metaphon.web.flow.table import panel as panel_of
from metaphon.web.flow.table import parameters_of, table
from metaphon.web.mixes.assemble import scene_of
from metaphon.web.mixes.models import Mix, Processor, Strip
from metaphon.web.mixes.permissions import mix_for
from metaphon.web.mixes.views import after_edit
from metaphon.web.shell.context import editing


def show(request: HttpRequest, mix_id: int) -> HttpResponse:
    mix = mix_for(request, mix_id)
    view = request.GET.get("view") or request.COOKIES.get("flow_view", "map")
    context = {
        **editing(request, mix), **table(mix), "view": "table" if view == "table" else "map",
        "latency": _latency(mix),
        "prints": mix.prints.exclude(status="done")[:3],
    }  # fmt: skip
    chosen = request.GET.get("strip", "")
    strip = mix.strips.filter(pk=int(chosen)).first() if chosen.isdigit() else None
    if strip:
        context |= panel_of(mix, strip, request.user, context)
    response = render(request, "flow/show.html", context)
    if request.GET.get("view"):
        response.set_cookie("flow_view", str(context["view"]), max_age=31536000, samesite="Lax")
    return response


def _latency(mix: Mix) -> tuple[int, float]:
    """What the slowest way through the processors costs, in samples and ms; it is made up for."""
    working = Processor.objects.filter(strip__mix=mix, bypassed=False)
    if not any(parameters_of(row).latency_samples(mix.sample_rate_hz) for row in working):
        return 0, 0.0  # the usual case, without putting the whole mix together
    try:
        samples = latency_samples(scene_of(mix))
    except InputError:
        samples = 0
    return samples, samples / mix.sample_rate_hz * 1000.0


def chart(request: HttpRequest, mix_id: int) -> HttpResponse:
    """The map, drawn to fit a width and height in pixels."""
    mix = mix_for(request, mix_id)

    def size(name: str, default: int, low: int, high: int) -> int:
        text = request.GET.get(name, "")
        return min(max(int(text), low), high) if text.isdigit() else default

    drawing = draw(mix, size("width", 1240, 560, 4000), size("height", 600, 300, 4000))
    return render(request, "flow/map.html", {"mix": mix, "drawing": drawing})


def panel(request: HttpRequest, mix_id: int, strip_id: int) -> HttpResponse:
    mix = mix_for(request, mix_id)
    strip = get_object_or_404(Strip, pk=strip_id, mix=mix)
    return render(request, "flow/panel.html", {**editing(request, mix), **panel_of(mix, strip, request.user)})


def changed(request: HttpRequest, mix: Mix, strips: list[int] | None) -> HttpResponse:
    """After an edit: the rows of these strips (None: the whole table) and the open panel, each at its place."""
    context = {**table(mix, strips), "whole": strips is None, "oob": True}
    opened = request.headers.get("X-Panel", "")
    strip = mix.strips.filter(pk=int(opened)).first() if opened.isdigit() else None
    if strip:
        context |= panel_of(mix, strip, request.user, context)
    return after_edit(request, mix, "flow/changed.html", context)
