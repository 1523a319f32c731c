"""How wide a strip is before and after its chain: drawn, told, foretold, and set."""

from collections import OrderedDict
from typing import Any

import numpy as np
from django.http import QueryDict

from metaphon.core.document.mix import Mix as Document
from metaphon.core.document.mix import Strip
from metaphon.core.document.part import LATEST_S
from metaphon.core.dsp.block import Block
from metaphon.core.edits.typed_values import read_number
from metaphon.core.engine.strip_width import Sides, fed_by, sides_of, through_chain
from metaphon.core.errors import InputError
from metaphon.core.measure.correlation import correlation, of_pair
from metaphon.core.measure.thirds import THIRDS_HZ
from metaphon.core.process.doubler import Doubler
from metaphon.core.process.processor import Processor
from metaphon.web.coherence.axis import WIDE, place_of, ticks
from metaphon.web.mixes.loudest import SPAN_S, loudest_s
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.snapshots import channels_of_strips
from metaphon.web.shell.processors import part_of

OFFERED = ("widener", "doubler", "virtual_pair", "basics")
_HIGH = 420.0
_MOST_KEPT = 12
_kept: OrderedDict[tuple[object, ...], Block] = OrderedDict()  # while settings change


def shown(mix: Mix, document: Document, given: QueryDict) -> dict[str, Any]:
    """The strips that can be wide, and the one that is open."""
    channels = channels_of_strips(mix, document)
    awake = [strip for strip in document.strips if not strip.resting]
    strips = [strip for strip in awake if channels.get(strip.id, 0) in (1, 2)]
    context: dict[str, Any] = {"strips": strips}
    wanted = given.get("strip", "")
    first = next((one for one in strips if any(p.needs_two_sides for p in one.chain)), None)
    strip = next((one for one in strips if one.id == wanted), None) or first
    strip = strip or next(iter(strips), None)
    if strip is None:
        return {**context, "said": "Bring in a recording of one or two channels first."}
    from_s = given.get("from_s", "").strip()
    start_s = (
        read_number(from_s, "The span measured", 0.0, LATEST_S)
        if from_s
        else loudest_s(mix, document, strip)
    )
    rate_hz = document.sample_rate_hz
    return {
        **context,
        **picture(document, strip, start_s),
        "strip": strip,
        "start_s": start_s,
        "from_s": from_s,
        "span_s": SPAN_S,
        "channels": channels[strip.id],
        "parts": [
            part_of(place, one, strip, channels[strip.id], rate_hz)
            for place, one in enumerate(strip.chain)
            if one.kind in OFFERED
        ],
        "offered": [kind for kind in OFFERED if kind != "basics" or not _has(strip, "basics")],
        "doublers": [n for n, one in enumerate(strip.chain) if _doubles(one)],
    }


def picture(document: Document, strip: Strip, start_s: float) -> dict[str, Any]:
    """What is heard of a strip before and after its chain, in figures and drawn."""
    first = round(start_s * document.sample_rate_hz)
    span = first, first + round(SPAN_S * document.sample_rate_hz)
    try:
        before = _sound(document, strip, span, chain=False)
        after = _sound(document, strip, span)
    except InputError as error:
        return {"unheard": str(error)}
    sides = [sides_of(sound, document.sample_rate_hz) for sound in (before, after)]
    doubler = next((n for n, one in enumerate(strip.chain) if _doubles(one)), None)
    top = max(float(np.abs(sound).max()) for sound in (before, after))
    return {
        "figures": [one.figures for one in sides],
        "foretold": _foretold(strip, sides[0], document.sample_rate_hz),
        "double": None if doubler is None else _double(document, strip, span, doubler, before),
        "clouds": [_cloud(one, top) for one in sides],
        "lines": [_line(one) for one in sides],
        "ticks": ticks(),
        "levels": [(1, 0.0), (0, _HIGH / 2.0), (-1, _HIGH)],
    }


def tried(document: Document, given: QueryDict) -> dict[str, Any]:
    """The picture of a strip in a mix with a command that is tried."""
    strip = document.find_strip(given.get("strip", ""))
    if strip is None:
        raise InputError("This track or bus is no longer in the mix; choose another.")
    start_s = read_number(given.get("start_s", "0"), "The span measured", 0.0, LATEST_S)
    return {"strip": strip, **picture(document, strip, start_s)}


def _has(strip: Strip, kind: str) -> bool:
    return any(one.kind == kind for one in strip.chain)


def _doubles(one: Processor) -> bool:
    return isinstance(one, Doubler) and not one.bypassed


def _sound(
    document: Document,
    strip: Strip,
    span: tuple[int, int],
    chain: bool = True,
    doubles: int | None = None,
) -> Block:
    """The sound of a strip; the last few are kept, by all that they are made of."""
    own = fed_by(document, strip.id).model_copy(update={"title": strip.name})
    key = (own.model_dump_json(), span, chain, doubles)
    if key not in _kept:
        _kept[key] = through_chain(own, strip.id, span, chain, doubles)
    _kept.move_to_end(key)
    while len(_kept) > _MOST_KEPT:
        _kept.popitem(last=False)
    return _kept[key]


def _foretold(
    strip: Strip, before: Sides, rate_hz: int
) -> tuple[float | None, float | None] | None:
    """Correlation and loss by the formulas of all processors at work; None where one has none."""
    powers = before.thirds
    for one in strip.chain:
        if one.bypassed:
            continue
        after = one.pair_powers(powers, THIRDS_HZ, rate_hz)
        if after is None:
            return None
        powers = after
    return of_pair(powers.sum(axis=0))


def _double(
    document: Document, strip: Strip, span: tuple[int, int], place: int, before: Block
) -> dict[str, float | None]:
    """How alike the doubles and the original are, each folded to mono."""
    doubles = _sound(document, strip, span, doubles=place).sum(axis=0, dtype=float)
    original = before.sum(axis=0, dtype=float)
    count = min(len(doubles), len(original))
    one, two = original[:count], doubles[:count]
    alike = correlation(
        float(one @ one) / count, float(two @ two) / count, float(one @ two) / count
    )
    return {"correlation": alike}


def _cloud(sides: Sides, top: float) -> str:
    """Left against right, the mid upwards: a dot a sample."""
    left, right = sides.points / max(top, 1e-9)
    x, y = 50.0 + 34.0 * (right - left), 50.0 - 34.0 * (left + right)
    return " ".join(f"M{a:.1f} {b:.1f}h0" for a, b in zip(x, y, strict=True))


def _line(sides: Sides) -> str:
    """The correlation by frequency; nothing where there is no sound."""
    path, pen = [], "M"
    for hertz, alike in zip(THIRDS_HZ, sides.bands, strict=True):
        if alike is None:
            pen = "M"
            continue
        x = min(max(place_of(float(hertz)), 0.0), WIDE)
        path.append(f"{pen}{x} {(1.0 - alike) / 2.0 * _HIGH:.1f}")
        pen = "L"
    return "".join(path)
