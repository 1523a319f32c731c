"""What a chain does to phase, drawn: magnitude, phase, group delay, and a click in time."""

import json
from collections.abc import Iterable
from typing import Any

import numpy as np
from django.http import QueryDict

from metaphon.core.document.mix import Mix as Document
from metaphon.core.engine.chain_response import (
    FREQUENCIES_HZ,
    ChainResponse,
    Curve,
    magnitude_db,
    response_of,
)
from metaphon.core.process.eq import Eq
from metaphon.core.process.processor import Processor
from metaphon.web.coherence.axis import WIDE, path_over, ticks
from metaphon.web.mixes.models import Mix
from metaphon.web.shell.posted import number_in
from metaphon.web.shell.templatetags.figures import signed

_LEVELS_DB = (18.0, -30.0)  # top and bottom of the magnitude
_HIGH = 360.0  # of each drawing
_CLICK_MS, _LONGEST_CLICK_MS = 12.0, 2000.0  # shown of a click before and after it
_CLICK_FLOOR_DB = -72.0


def shown(mix: Mix, document: Document, given: QueryDict) -> dict[str, Any]:
    """The curves of a strip's chain, or of one processor in it."""
    strips = [strip for strip in document.strips if not strip.resting]
    with_chains = [strip for strip in strips if strip.chain]
    context: dict[str, Any] = {"strips": with_chains}
    strip = document.find_strip(given.get("strip", "")) or next(iter(with_chains), None)
    if strip is None or not strip.chain:
        return {**context, "said": "No track or bus has a processor yet; add one in Flow."}
    part = number_in(given.get("part", ""))
    part = part if part is not None and part < len(strip.chain) else None
    chain = strip.chain if part is None else strip.chain[part : part + 1]
    unwrapped = given.get("unwrapped") == "on"
    found = response_of(chain, document.sample_rate_hz)
    other = _other_phase(chain, document.sample_rate_hz) if part is not None else None
    phase, delay = found.phase_deg(unwrapped), found.group_delay_ms
    span = _span(phase) if unwrapped else (180.0, -180.0)
    reach = max(2.0, float(np.ceil(np.abs(delay).max() * 1.1)))
    rate_hz = document.sample_rate_hz
    late_s = max(one.latency for one in (found, other) if one) / rate_hz
    rings_s = sum(one.tail_s(rate_hz) for one in chain if not one.bypassed)
    shown_ms = np.ceil(max(late_s, rings_s) * 1000.0)
    click_ms = float(np.clip(shown_ms, _CLICK_MS, _LONGEST_CLICK_MS))
    return {
        **context,
        "strip": strip,
        "part": part,
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
