"""A space in time: how it dies away by octave, how clear it leaves words, how dense it is."""

from collections import OrderedDict
from typing import Any

import numpy as np
from django.http import QueryDict

from metaphon.core.document.mix import Bus, Strip
from metaphon.core.document.mix import Mix as Document
from metaphon.core.engine.tail import tail_of
from metaphon.core.measure.room_response import OCTAVES_HZ, RoomResponse, room_response
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.snapshots import channels_of_strips
from metaphon.web.shell.processors import part_of

WIDE, HIGH = 1200.0, 220.0
_LOWEST_DB = 60.0
_FIGURES = (
    ("EDT", "edt_s", "s", 2),
    ("T20", "t20_s", "s", 2),
    ("T30", "t30_s", "s", 2),
    ("C50", "c50_db", "dB", 1),
    ("C80", "c80_db", "dB", 1),
    ("D50", "d50", "", 2),
)
_MOST_KEPT = 16
_kept: OrderedDict[tuple[object, ...], RoomResponse] = OrderedDict()


def shown(mix: Mix, document: Document, given: QueryDict) -> dict[str, Any]:
    """The spaces there are, the one that is open, and another laid over it."""
    spaces = [
        strip
        for strip in document.strips
        if not strip.resting and any(one.is_reverb and not one.bypassed for one in strip.chain)
    ]
    context: dict[str, Any] = {"spaces": spaces}
    by_id = {strip.id: strip for strip in spaces}
    strip = by_id.get(given.get("strip", "")) or next(iter(spaces), None)
    if strip is None:
        return context
    other = by_id.get(given.get("other", ""))
    channels = channels_of_strips(mix, document)
    rate_hz = document.sample_rate_hz
    found = [_told(one, channels[one.id], rate_hz) for one in (strip, other) if one]
    length_s = max(_until_s(one) for one in found)
    steps = next(step for step in (0.1, 0.25, 0.5, 1.0, 2.0, 5.0) if length_s / step <= 10.0)
    return {
        **context,
        "strip": strip,
        "other": other if other is not strip else None,
        "curves": [_curve(one, length_s) for one in found],
        "density": _density(found[0], length_s),
        "ticks": [(s, round(s / length_s * WIDE, 1)) for s in np.arange(0, length_s, steps)],
        "levels": [(-db, db / _LOWEST_DB * HIGH) for db in (0, 10, 20, 30, 40, 50, 60)],
        "octaves": OCTAVES_HZ,
        "rows": [_row(found, *figure) for figure in _FIGURES],
        "parts": [
            part_of(place, one, strip, channels[strip.id], rate_hz)
            for place, one in enumerate(strip.chain)
        ],
        "channels": channels[strip.id],
    }


def _told(strip: Strip, channels: int, rate_hz: int) -> RoomResponse:
    """The figures of a strip's chain; the last few are kept."""
    layout = strip.layout if isinstance(strip, Bus) else ""
    key = (strip.chain, layout, channels, rate_hz)
    if key not in _kept:
        _kept[key] = room_response(tail_of(strip, channels, rate_hz), rate_hz)
    _kept.move_to_end(key)
    while len(_kept) > _MOST_KEPT:
        _kept.popitem(last=False)
    return _kept[key]


def _until_s(one: RoomResponse) -> float:
    """Where it has fallen by as much as is drawn."""
    below = np.flatnonzero(one.curve_db < -_LOWEST_DB)
    return float(one.times_s[below[0]] if len(below) else one.times_s[-1]) or 0.1


def _curve(one: RoomResponse, length_s: float) -> str:
    y = np.minimum(-one.curve_db / _LOWEST_DB, 1.0) * HIGH
    return _path(one, y, length_s)


def _density(one: RoomResponse, length_s: float) -> str:
    return _path(one, (1.0 - np.minimum(one.density, 1.2) / 1.2) * HIGH, length_s)


def _path(one: RoomResponse, heights: Any, length_s: float) -> str:
    inside = one.times_s <= length_s
    x = one.times_s[inside] / length_s * WIDE
    return "M" + "L".join(f"{a:.1f} {b:.1f}" for a, b in zip(x, heights[inside], strict=True))


def _row(
    found: list[RoomResponse], title: str, name: str, unit: str, digits: int
) -> dict[str, Any]:
    """One figure of both spaces, by octave and of the whole."""

    def values(one: RoomResponse) -> list[float | None]:
        return [getattr(decay, name) for decay in (one.whole, *one.octaves)]

    return {"title": title, "unit": unit, "digits": digits, "spaces": [values(o) for o in found]}
