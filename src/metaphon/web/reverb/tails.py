"""A space in time: how it dies away by octave, how clear it leaves words, how dense it is."""

import base64
from collections import OrderedDict
from dataclasses import dataclass
from typing import Any

import numpy as np
from django.http import QueryDict

from metaphon.core.document.mix import Bus, Strip
from metaphon.core.document.mix import Mix as Document
from metaphon.core.document.tempo import strip_in_time
from metaphon.core.engine.tail import at_ears, tail_of
from metaphon.core.measure.room_response import OCTAVES_HZ, RoomResponse, room_response
from metaphon.core.measure.tail_picture import FLOOR_DB, Alikeness, alikeness, spectrogram_db
from metaphon.core.process.convolution_reverb import ConvolutionReverb
from metaphon.core.process.network_reverb import NetworkReverb
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.permissions import User
from metaphon.web.mixes.responses import title_of
from metaphon.web.mixes.snapshots import channels_of_strips
from metaphon.web.reverb import decays, returns
from metaphon.web.reverb.catalogue import chooser
from metaphon.web.shell.processors import part_of

WIDE, HIGH = 720.0, 200.0
_LOWEST_DB = 60.0
_BANDS_HZ = np.geomspace(50.0, 16000.0, 56)
_COLUMNS = 180
_FIGURES = (
    ("EDT", "edt_s", "s", 2),
    ("T20", "t20_s", "s", 2),
    ("T30", "t30_s", "s", 2),
    ("C50", "c50_db", "dB", 1),
    ("C80", "c80_db", "dB", 1),
    ("D50", "d50", "", 2),
)
_MOST_KEPT = 16


@dataclass(frozen=True)
class Told:
    """The tail of a strip, told."""

    response: RoomResponse
    ears: Alikeness
    bands_db: np.ndarray
    length_s: float


_kept: OrderedDict[tuple[object, ...], Told] = OrderedDict()

_PICTURES = ("decay", "spectrum", "measures")


def spaces_in(document: Document) -> list[Strip]:
    """The strips whose chain holds a reverb at work."""
    return [strip for strip in document.strips if strip.has_reverb and not strip.resting]


def shown(mix: Mix, document: Document, given: QueryDict, user: User) -> dict[str, Any]:
    """The spaces there are, the one that is open, and another laid over it."""
    spaces = spaces_in(document)
    context: dict[str, Any] = {"spaces": spaces, "tempo_bpm": document.tempo_bpm}
    by_id = {strip.id: strip for strip in spaces}
    if spaces:
        by_id["newest"] = spaces[-1]
    strip = by_id.get(given.get("strip", "")) or next(iter(spaces), None)
    if strip is None:
        return context
    other = by_id.get(given.get("other", ""))
    channels = channels_of_strips(mix, document)
    rate_hz = document.sample_rate_hz
    over = [strip, other] if other and other is not strip else [strip]
    found = [
        told(strip_in_time(one, document.tempo_bpm), channels.get(one.id, 1), rate_hz)
        for one in over
    ]
    length_s = max(_until_s(one.response) for one in found)
    steps = next(step for step in (0.05, 0.1, 0.25, 0.5, 1.0, 2.0, 5.0) if length_s / step <= 10.0)
    place, reverb = next(
        (n, one) for n, one in enumerate(strip.chain) if one.is_reverb and not one.bypassed
    )
    return {
        **context,
        "strip": strip,
        "other": over[1] if len(over) > 1 else None,
        "curves": [_curve(one.response, length_s) for one in found],
        "density": _density(found[0].response, length_s),
        "ticks": [(s, round(s / length_s * WIDE, 1)) for s in np.arange(0, length_s, steps)],
        "levels": [(-db, round(db / _LOWEST_DB * HIGH, 1)) for db in range(0, 70, 10)],
        "picture": picture if (picture := given.get("picture")) in _PICTURES else "decay",
        "spectrogram": _spectrogram(found[0], length_s),
        "octaves": OCTAVES_HZ,
        "rows": [*(_row(found, *figure) for figure in _FIGURES), *_ears(found)],
        "parts": [
            part_of(n, one, strip, channels.get(strip.id, 1), rate_hz)
            for n, one in enumerate(strip.chain)
        ],
        "channels": channels.get(strip.id, 1),
        "place": place,
        "network": reverb if isinstance(reverb, NetworkReverb) else None,
        "chooser": chooser(reverb, user) if isinstance(reverb, ConvolutionReverb) else None,
        "called": title_of(reverb),
        "to_link": [
            one
            for one in spaces
            if one is not strip and any(type(p) is type(reverb) for p in one.chain)
        ],
        "followed": next(
            (
                one.id
                for one in spaces
                if one is not strip
                and reverb.link
                and any(p.link == reverb.link for p in one.chain)
            ),
            "",
        ),
        "places": returns.places_for(strip) if isinstance(strip, Bus) else [],
        "band_curve": decays.drawn(strip, place, reverb, [one.response for one in found], rate_hz),
    }


def told(strip: Strip, channels: int, rate_hz: int) -> Told:
    """The figures of a strip's chain; the last few are kept."""
    layout = strip.layout if isinstance(strip, Bus) else ""
    key = (strip.chain, layout, strip.placement.mode == "scene", channels, rate_hz)
    if key not in _kept:
        tail = tail_of(strip, channels, rate_hz)
        _kept[key] = Told(
            room_response(tail[0], rate_hz),
            alikeness(at_ears(strip, tail, rate_hz), rate_hz),
            spectrogram_db(tail, rate_hz, _BANDS_HZ, 2 * _COLUMNS),
            tail.shape[1] / rate_hz,
        )
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


def _spectrogram(one: Told, length_s: float) -> dict[str, Any]:
    """Levels as bytes, a row a band from the highest down, over the time that is drawn."""
    at = np.linspace(0.0, min(length_s / one.length_s, 1.0), _COLUMNS) * (2 * _COLUMNS - 1)
    rows = np.stack([np.interp(at, np.arange(2 * _COLUMNS), band) for band in one.bands_db[::-1]])
    data = np.round((1.0 - rows / FLOOR_DB) * 255.0).astype(np.uint8)
    octaves = np.log2(_BANDS_HZ[-1] / _BANDS_HZ[0])
    return {
        "data": base64.b64encode(data.tobytes()).decode(),
        "columns": _COLUMNS,
        "rows": len(_BANDS_HZ),
        "marks": [
            (hertz, round(float(np.log2(_BANDS_HZ[-1] / hertz) / octaves * HIGH), 1))
            for hertz in (100, 1000, 10000)
        ],
    }


def _row(found: list[Told], title: str, name: str, unit: str, digits: int) -> dict[str, Any]:
    """One figure of both spaces, by octave and of the whole."""

    def values(one: RoomResponse) -> list[float | None]:
        return [getattr(decay, name) for decay in (one.whole, *one.octaves)]

    spaces = [values(one.response) for one in found]
    return {"title": title, "unit": unit, "digits": digits, "spaces": spaces}


def _ears(found: list[Told]) -> list[dict[str, Any]]:
    """How alike both ears hear it, by octave."""
    return [
        {
            "title": title,
            "unit": "",
            "digits": 2,
            "spaces": [[None, *getattr(one.ears, name)] for one in found],
        }
        for title, name in (("IACC, to 80 ms", "early"), ("IACC, after", "late"))
    ]
