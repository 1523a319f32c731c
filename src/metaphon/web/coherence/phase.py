"""What a chain does to phase, drawn: magnitude, phase, group delay, a click in time.

The same of two sides against each other, and what goes in against what comes out.
"""

import json
from collections.abc import Iterable
from typing import Any
from urllib.parse import urlencode

import numpy as np
from django.http import QueryDict
from numpy.typing import NDArray

from metaphon.core.document.mix import Mix as Document
from metaphon.core.document.mix import Strip
from metaphon.core.engine.chain_response import (
    FREQUENCIES_HZ,
    ChainResponse,
    Curve,
    magnitude_db,
    response_of,
)
from metaphon.core.engine.strip_width import through_chain
from metaphon.core.errors import InputError
from metaphon.core.process.eq import Eq
from metaphon.core.process.processor import Processor
from metaphon.web.coherence.axis import WIDE, path_over, place_of, ticks
from metaphon.web.mixes.loudest import loudest_s
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.snapshots import channels_of_strips
from metaphon.web.shell.posted import number_in
from metaphon.web.shell.templatetags.figures import signed

_LEVELS_DB = (18.0, -30.0)  # top and bottom of the magnitude
_HIGH = 360.0  # of each drawing
_CLICK_MS, _LONGEST_CLICK_MS = 12.0, 2000.0  # shown of a click before and after it
_CLICK_FLOOR_DB = -72.0
RIGHT = "right"  # against its own right channel
# a lead that the ear takes for a direction and not for an echo (Haas 1951, from memory)
_PULLS_MS = (1.0, 35.0)
_EXCERPT_S = 2.0
_WAVE_FRAMES = 960


def shown(mix: Mix, document: Document, given: QueryDict) -> dict[str, Any]:
    """The curves of a strip's chain, of one processor in it, or of the way to the mix."""
    strips = [strip for strip in document.strips if not strip.resting]
    with_chains = [strip for strip in strips if strip.chain]
    context: dict[str, Any] = {"strips": with_chains}
    strip = document.find_strip(given.get("strip", "")) or next(iter(with_chains), None)
    way = _way(document, strip) if strip else ()
    if strip is None or not any(one.chain for one in way):
        return {**context, "said": "No track or bus has a processor yet; add one in Flow."}
    part = number_in(given.get("part", ""))
    part = part if part is not None and part < len(strip.chain) else None
    whole = (given.get("whole") == "on" and part is None) or not strip.chain
    chain = tuple(p for one in way for p in one.chain) if whole else strip.chain
    chain = chain if part is None else strip.chain[part : part + 1]
    rate_hz = document.sample_rate_hz
    unwrapped = given.get("unwrapped") == "on"
    against = given.get("against", "")
    channels = (
        2 if against == RIGHT or channels_of_strips(mix, document).get(strip.id, 0) == 2 else 1
    )
    found = response_of(chain, rate_hz, channels)
    facing = _facing(document, against, chain)
    faced = response_of(facing, rate_hz, channels, int(against == RIGHT)) if facing else None
    other = _other_phase(chain, rate_hz) if part is not None else None
    phase, delay = found.phase_deg(unwrapped), found.group_delay_ms
    span = _span(phase) if unwrapped else (180.0, -180.0)
    reach = max(2.0, float(np.ceil(np.abs(delay).max() * 1.1)))
    late_s = max(one.latency for one in (found, other) if one) / rate_hz
    rings_s = sum(one.tail_s(rate_hz) for one in chain if not one.bypassed)
    shown_ms = np.ceil(max(late_s, rings_s) * 1000.0)
    click_ms = float(np.clip(shown_ms, _CLICK_MS, _LONGEST_CLICK_MS))
    panes = {"click": "Click", "waves": "In and out", **({"lead": "Lead"} if faced else {})}
    pane = given.get("pane", "") if given.get("pane", "") in panes else "click"
    pane = "lead" if faced and "pane" not in given else pane
    return {
        **context,
        "strip": strip,
        "part": part,
        "whole": whole,
        "way": way,
        "against": against,
        "facing": [one for one in with_chains if one.id != strip.id],
        "is_pair": channels == 2,
        "panes": panes.items(),
        "pane": pane,
        "query": _query(given, strip.id),
        "unwrapped": unwrapped,
        "found": found,
        "by_formula": found.computed is not None,
        "magnitude": path_over(FREQUENCIES_HZ, _between(magnitude_db(found.best), *_LEVELS_DB)),
        "measured": path_over(FREQUENCIES_HZ, _between(magnitude_db(found.measured), *_LEVELS_DB)),
        "phase": path_over(FREQUENCIES_HZ, _between(phase, *span)),
        "delay": path_over(FREQUENCIES_HZ, _between(delay, reach, -reach)),
        "levels": _marks((12.0, 0.0, -12.0, -24.0), _LEVELS_DB),
        "turns": _marks(np.linspace(*span, 5), span),
        "delays": _marks((reach, 0.0, -reach), (reach, -reach)),
        "ticks": ticks(),
        "click": _click(found, click_ms),
        "click_ms": click_ms,
        "lead": _lead(found, faced) if faced else None,
        "waves": _in_and_out(mix, document, strip) if pane == "waves" else None,
        "other": other,
        "other_click": _click(other, click_ms) if other else "",
        "other_is": "minimum" if getattr(chain[0], "phase", "") == "linear" else "linear",
        "latency_ms": found.latency / rate_hz * 1000.0,
        "other_latency_ms": other.latency / rate_hz * 1000.0 if other else 0.0,
        "figures": json.dumps(
            {
                "hz": _rounded(FREQUENCIES_HZ, 1),
                "db": _rounded(magnitude_db(found.best), 2),
                "deg": _rounded(phase, 1),
                "ms": _rounded(delay, 3),
                "rate": rate_hz,
            }
        ),
    }


def _way(document: Document, strip: Strip) -> tuple[Strip, ...]:
    """The strip and the buses that its output passes on its way to the mix."""
    found = [strip]
    while (bus := document.find_strip(str(found[-1].output))) and bus not in found:
        found.append(bus)
    return tuple(found)


def _facing(
    document: Document, against: str, chain: tuple[Processor, ...]
) -> tuple[Processor, ...]:
    """The chain that is held against it: its own on the right, or another strip's."""
    if against == RIGHT:
        return chain
    other = document.find_strip(against) if against else None
    return other.chain if other else ()


def _query(given: QueryDict, strip_id: str) -> str:
    """The address of what is shown, without its pane."""
    asked = {name: given.get(name, "") for name in ("part", "whole", "against", "unwrapped")}
    kept = {name: value for name, value in asked.items() if value}
    return urlencode({"view": "phase", "strip": strip_id, **kept})


def _lead(found: ChainResponse, faced: ChainResponse) -> dict[str, Any]:
    """How much earlier it is than the other by frequency, and where that pulls the image."""
    lead = faced.group_delay_ms - found.group_delay_ms
    passes = np.minimum(np.abs(found.best), np.abs(faced.best)) > 10.0 ** (-40.0 / 20.0)
    size = np.abs(lead)
    pulls = (size >= _PULLS_MS[0]) & (size <= _PULLS_MS[1]) & passes
    reach = max(2.0, float(np.ceil(size[passes].max(initial=0.0) * 1.1)))
    edges = np.flatnonzero(np.diff(np.concatenate([[0], pulls.astype(int), [0]])))
    spans = [
        (place_of(float(FREQUENCIES_HZ[first])), place_of(float(FREQUENCIES_HZ[last - 1])))
        for first, last in zip(edges[::2], edges[1::2], strict=True)
    ]
    most = int(np.argmax(np.where(passes, size, 0.0)))
    return {
        "path": path_over(FREQUENCIES_HZ, _between(lead, reach, -reach)),
        "marks": _marks((reach, 0.0, -reach), (reach, -reach)),
        "spans": [{"x": x, "width": max(round(end - x, 1), 2.0)} for x, end in spans],
        "ms": float(lead[most]),
        "hertz": float(FREQUENCIES_HZ[most]),
        "pulls": bool(pulls.any()),
    }


def _in_and_out(mix: Mix, document: Document, strip: Strip) -> dict[str, Any]:
    """What goes in upwards and what comes out downwards, and how far they cancel."""
    rate_hz = document.sample_rate_hz
    first = round(loudest_s(mix, document, strip) * rate_hz)
    span = first, first + round(_EXCERPT_S * rate_hz)
    try:
        before, after = (through_chain(document, strip.id, span, chain=on) for on in (False, True))
    except InputError as error:
        return {"unheard": str(error)}
    whole = float(np.sum(np.square(before, dtype=float)))
    loudest = int(np.argmax(np.abs(before).sum(axis=0)))
    start = min(max(loudest - _WAVE_FRAMES // 3, 0), before.shape[1] - _WAVE_FRAMES)
    parts = [side[0, start : start + _WAVE_FRAMES] for side in (before, after)]
    top = max(float(np.abs(part).max()) for part in parts) or 1.0
    nulls = [
        10.0 * np.log10(max(float(np.sum(np.square(before - sign * after, dtype=float))), 1e-12))
        - 10.0 * np.log10(max(whole, 1e-12))
        for sign in (1.0, -1.0)
    ]
    return {
        "before": _wave(parts[0] / top),
        "after": _wave(-parts[1] / top),
        "null": _wave((parts[0] - parts[1]) / top),
        "null_db": nulls[0],
        "turned_db": nulls[1],
        "is_turned": nulls[1] < nulls[0] - 3.0,
    }


def _wave(part: NDArray[Any]) -> str:
    x = np.linspace(0.0, WIDE, len(part))
    y = (1.0 - part) * _HIGH / 2.0
    return "M" + "L".join(f"{a:.1f} {b:.1f}" for a, b in zip(x, y, strict=True))


def _other_phase(chain: tuple[Processor, ...], rate_hz: int) -> ChainResponse | None:
    """The same equaliser with the other kind of phase, to be seen beside it."""
    [one] = chain
    if not isinstance(one, Eq):
        return None
    turned = "minimum" if one.phase == "linear" else "linear"
    return response_of((one.model_copy(update={"phase": turned}),), rate_hz)


def _span(phase: Curve) -> tuple[float, float]:
    """Whole half turns around a phase that runs on."""
    top = np.ceil(max(phase.max(), 0.0) / 180.0 + 0.01) * 180.0
    bottom = np.floor(min(phase.min(), 0.0) / 180.0 - 0.01) * 180.0
    return float(top), float(bottom)


def _between(values: Curve, top: float, bottom: float) -> Curve:
    return np.clip((top - values) / (top - bottom), 0.0, 1.0) * _HIGH


def _marks(values: Iterable[float], span: tuple[float, float]) -> list[tuple[str, float]]:
    """Values on an axis, in words, and where they lie."""
    return [(signed(value, 0), float(_between(np.array(float(value)), *span))) for value in values]


def _click(found: ChainResponse, reach_ms: float) -> str:
    """The level of a click in time, in dB under its strongest sample, the click in the middle."""
    half = round(reach_ms / 1000.0 * found.rate_hz)
    frames = np.arange(-half, half) + found.before
    inside = (frames >= 0) & (frames < len(found.impulse))
    level = np.full(len(frames), _CLICK_FLOOR_DB)
    size = np.abs(found.impulse[frames[inside]])
    level[inside] = 20.0 * np.log10(np.maximum(size / max(size.max(), 1e-12), 1e-6))
    edges = np.linspace(0, len(level), 400, endpoint=False).astype(int)
    columns = np.maximum.reduceat(level, edges)
    heights = np.clip(columns / _CLICK_FLOOR_DB, 0.0, 1.0) * _HIGH
    return "M" + " ".join(f"{x * WIDE / 400:.0f} {y:.1f}" for x, y in enumerate(heights))


def _rounded(values: Curve, digits: int) -> list[float]:
    return [round(float(value), digits) for value in values]
