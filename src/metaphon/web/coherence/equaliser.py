"""An equaliser or a resonator, large: bands that are dragged on the curve they make."""

from typing import Any

import numpy as np
from django.http import QueryDict

from metaphon.core.document.mix import Mix as Document
from metaphon.core.document.mix import Strip
from metaphon.core.engine.chain_response import FREQUENCIES_HZ, Curve, by_formula, magnitude_db
from metaphon.core.errors import InputError
from metaphon.core.process.eq import SIDES, Band, Eq
from metaphon.core.process.processor import Processor
from metaphon.core.process.resonator import Resonator
from metaphon.web.coherence.axis import path_over, place_of, ticks
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.snapshots import channels_of_tracks
from metaphon.web.shell.controls import numeric_of
from metaphon.web.shell.posted import number_in
from metaphon.web.shell.processors import part_of

HIGH = 300.0  # of the drawing
_REACH_DB = 18.0  # up and down from the middle; as far as a gain goes where one goes further
_FARTHEST_DB = 24.0
_DELAYS_MS = (1.0, 2.0, 5.0, 10.0, 20.0, 50.0, 100.0)  # what the group delay may reach
_DRAWN = (Eq, Resonator)


def shown(mix: Mix, document: Document, given: QueryDict) -> dict[str, Any]:
    """All equalisers and resonators there are, and the one that is open, large."""
    strips = [strip for strip in document.strips if not strip.resting]
    found = [
        (strip, place, one)
        for strip in strips
        for place, one in enumerate(strip.chain)
        if isinstance(one, _DRAWN)
    ]
    context: dict[str, Any] = {"strips": strips, "found": found}
    wanted = given.get("strip", "")
    strip = document.find_strip(wanted) or (found[0][0] if found else next(iter(strips), None))
    if strip is None:
        return {**context, "said": "Bring recordings in first."}
    place = _place(strip, given)
    context |= {"strip": strip, "place": place}
    if place is None:
        return context
    one = strip.chain[place]
    known = channels_of_tracks(mix, document)
    channels = 2 if getattr(strip, "layout", "") == "0+2+0" else known.get(strip.id, 0)
    reach = _reach(one)
    return {
        **context,
        "one": one,
        "is_eq": isinstance(one, Eq),
        "part": part_of(place, one, strip, channels, document.sample_rate_hz),
        "channels": channels,
        "handles": _handles(one, place, reach),
        "curves": _curves(strip, place, document.sample_rate_hz),
        "reach_db": reach,
        "ticks": ticks(),
        "levels": [(db, _y(db, reach)) for db in np.arange(-reach, reach + 1.0, 6.0).tolist()],
        "high": HIGH,
        "bypass": {
            "kind": "set",
            "strips": [strip.id],
            "path": f"chain/{place}/bypassed",
            "value": True,
        },
    }


def curves(document: Document, given: QueryDict) -> dict[str, Any]:
    """Level, phase and group delay of the equaliser that is open, as paths."""
    strip = document.find_strip(given.get("strip", ""))
    place = _place(strip, given) if strip else None
    if strip is None or place is None:
        raise InputError("This equaliser is no longer there; choose another.")
    return _curves(strip, place, document.sample_rate_hz)


def _curves(strip: Strip, place: int, rate_hz: int) -> dict[str, Any]:
    """Of the whole, or of each side that differs."""
    one = strip.chain[place]
    whole: dict[str, Processor] = {"both": one}
    if isinstance(one, Eq) and one.sides:
        own = [side for side in SIDES if any(band.side == side for band in one.bands)]
        whole = {side: one.heard_on(side) for side in own}
    reach = _reach(one)
    levels = {}
    for side, heard in whole.items():
        formula = by_formula([heard], rate_hz)
        assert formula is not None, "equalisers and resonators have a formula"
        levels[side] = _path(_y(magnitude_db(formula[0]), reach))
        response, delay = formula
    most = float(np.abs(delay).max())
    top = next((ms for ms in _DELAYS_MS if ms >= most), _DELAYS_MS[-1])
    return {
        "levels": levels,
        "phase": _path((0.5 - np.angle(response) / (2.0 * np.pi)) * HIGH),
        "delay": _path(np.clip(0.5 - 0.5 * delay / top, 0.0, 1.0) * HIGH),
        "delay_ms": top,
    }


def _place(strip: Strip, given: QueryDict) -> int | None:
    """The place in the chain that is asked for, or of the first that can be drawn."""
    asked = number_in(given.get("place", ""))
    if asked is not None and asked < len(strip.chain) and isinstance(strip.chain[asked], _DRAWN):
        return asked
    return next((n for n, one in enumerate(strip.chain) if isinstance(one, _DRAWN)), None)


def _reach(one: Processor) -> float:
    gains = [band.gain_db for band in one.bands] if isinstance(one, Eq) else []
    most = max(map(abs, gains), default=0.0)
    far = most > _REACH_DB or isinstance(one, Resonator)
    return _FARTHEST_DB if far else _REACH_DB


def _y(level_db: Any, reach: float) -> Any:
    """Where a level lies, held to the drawing."""
    return np.clip(0.5 - 0.5 * np.asarray(level_db) / reach, 0.0, 1.0) * HIGH


def _path(heights: Curve) -> str:
    return path_over(FREQUENCIES_HZ, heights)


def _handles(one: Processor, place: int, reach: float) -> list[dict[str, Any]]:
    """What can be dragged: where it is, and the paths of what it sets."""
    if isinstance(one, Resonator):
        names = {"x": "frequency_hz", "y": "emphasis_db", "q": "sharpness"}
        level = one.emphasis_db if one.action == "emphasise" else None
        return [_handle(1, one, f"chain/{place}", names, level, reach)]
    assert isinstance(one, Eq)
    found = []
    for number, band in enumerate(one.bands):
        names = {"x": "frequency_hz", "y": "gain_db", "q": "q"}
        used = {axis: name for axis, name in names.items() if name in band.used}
        level = band.gain_db if "y" in used else None
        head = f"chain/{place}/bands/{number}"
        found.append(_handle(number + 1, band, head, used, level, reach))
    return found


def _handle(
    number: int,
    held: Processor | Band,
    head: str,
    names: dict[str, str],
    level: float | None,
    reach: float,
) -> dict[str, Any]:
    words = getattr(held, "shape", "resonator").replace("_", " ")
    frequency = min(max(held.frequency_hz, 20.0), 20000.0)  # type: ignore[union-attr]
    fields = type(held).model_fields
    ranges = {axis: numeric_of(fields[name]) for axis, name in names.items()}
    said = "" if level is None else f", {level:.1f} dB"
    return {
        "number": number,
        "shape": getattr(held, "shape", "resonator"),
        "side": getattr(held, "side", "both"),
        "off": not getattr(held, "on", True),
        "label": f"Band {number}, {words}, {held.frequency_hz:.0f} Hz{said}",  # type: ignore[union-attr]
        "cx": place_of(frequency),
        "cy": round(float(_y(level or 0.0, reach)), 1),
        "data": {
            "paths": {axis: f"{head}/{name}" for axis, name in names.items()},
            "values": {axis: getattr(held, name) for axis, name in names.items()},
            "ends": {axis: [one.low, one.high] for axis, one in ranges.items()},
        },
    }
