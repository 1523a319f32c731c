"""What each processor of a strip does to its loudness, for the pages that show its chain."""

from collections import OrderedDict

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from metaphon.core.edits.command import strip_of
from metaphon.core.engine.chain_loudness import loudness_changes
from metaphon.core.engine.strip_width import fed_by
from metaphon.core.errors import InputError
from metaphon.web.mixes.loudest import SPAN_S, loudest_s
from metaphon.web.mixes.permissions import mix_for
from metaphon.web.mixes.snapshots import document_of
from metaphon.web.shell.fragments import fragment_of

_MOST_KEPT = 64
_kept: OrderedDict[str, list[float | None]] = OrderedDict()  # by all that it depends on


@fragment_of("flow:show")
def show(request: HttpRequest, mix_id: int, strip_id: str) -> HttpResponse:
    """The change of loudness beside each processor of a strip, over its loudest seconds."""
    mix = mix_for(request, mix_id)
    document = document_of(mix)
    strip = strip_of(document, strip_id)
    key = fed_by(document, strip_id).model_dump_json() + strip_id
    if key not in _kept:
        first = round(loudest_s(mix, document, strip) * document.sample_rate_hz)
        span = first, first + round(SPAN_S * document.sample_rate_hz)
        try:
            _kept[key] = loudness_changes(document, strip_id, span)
        except InputError:  # nothing to hear
            _kept[key] = []
        while len(_kept) > _MOST_KEPT:
            _kept.popitem(last=False)
    return render(request, "mixes/chain_loudness.html", {"changes": _kept[key], "span_s": SPAN_S})
