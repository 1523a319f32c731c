"""Decay by frequency: as it is set, as it is measured, and the three points it is dragged by."""

from typing import Any

import numpy as np

from metaphon.core.document.mix import Strip
from metaphon.core.document.value_paths import range_of_field
from metaphon.core.measure.room_response import OCTAVES_HZ, RoomResponse
from metaphon.core.process.convolution_reverb import ConvolutionReverb
from metaphon.core.process.network_reverb import NetworkReverb
from metaphon.core.process.processor import Processor

WIDE, HIGH = 420.0, 200.0
_LOWEST_HZ, _HIGHEST_HZ = 50.0, 16000.0
_SHORTEST_S, _LONGEST_S = 0.1, 20.0
_HERTZ = np.geomspace(_LOWEST_HZ, _HIGHEST_HZ, 90)
_TICKS_S = (0.1, 0.2, 0.5, 1.0, 2.0, 5.0, 10.0, 20.0)


def drawn(
    strip: Strip, place: int, reverb: Processor, told: list[RoomResponse], rate_hz: int
) -> dict[str, Any]:
    """All that the drawing needs: a line where decay is set, points where it is measured."""
    return {
        "set": set_line(reverb, rate_hz),
        "spaces": [_measured(one) for one in told],
        "handles": _handles(strip, place, reverb, told[0], rate_hz),
        "seconds": [(s, _y(s)) for s in _TICKS_S],
        "hertz": [(hz, _x(hz)) for hz in (125.0, 500.0, 2000.0, 8000.0)],
        "ends": [_SHORTEST_S, _LONGEST_S],
    }


def set_line(reverb: Processor, rate_hz: int) -> str:
    """The line of the decay that is set, empty where it is measured only."""
    if not isinstance(reverb, NetworkReverb):
        return ""
    seconds = reverb.decay_at_s(_HERTZ, rate_hz)
    return "M" + "L".join(f"{_x(hz)} {_y(float(s))}" for hz, s in zip(_HERTZ, seconds, strict=True))


def _x(hertz: float) -> float:
    return round(float(np.log(hertz / _LOWEST_HZ) / np.log(_HIGHEST_HZ / _LOWEST_HZ)) * WIDE, 1)


def _y(seconds: float) -> float:
    held = min(max(seconds, _SHORTEST_S), _LONGEST_S)
    return round(
        float(1.0 - np.log(held / _SHORTEST_S) / np.log(_LONGEST_S / _SHORTEST_S)) * HIGH, 1
    )


def _measured(one: RoomResponse) -> list[dict[str, float]]:
    found = []
    for hertz, decay in zip(OCTAVES_HZ, one.octaves, strict=True):
        seconds = decay.decay_s
        if seconds is not None:
            found.append({"x": _x(hertz), "y": _y(seconds), "hertz": hertz, "seconds": seconds})
    return found


def _handles(
    strip: Strip, place: int, reverb: Processor, told: RoomResponse, rate_hz: int
) -> list[dict[str, Any]]:
    """The points of bass, middle and treble: what they set, and seconds for each of its units."""
    if not isinstance(reverb, NetworkReverb | ConvolutionReverb):
        return []
    middle_hz = float(np.sqrt(reverb.bass_corner_hz * reverb.treble_corner_hz))
    told_s = [
        _measured_at(told, hz)
        for hz in (reverb.bass_corner_hz / 2, middle_hz, reverb.treble_corner_hz * 2)
    ]
    made = []
    for (name, title, hertz), seconds in zip(
        (
            ("bass_decay", "Bass", reverb.bass_corner_hz / 2.0),
            ("decay_s" if isinstance(reverb, NetworkReverb) else "decay", "Middle", middle_hz),
            ("treble_decay", "Treble", reverb.treble_corner_hz * 2.0),
        ),
        told_s,
        strict=True,
    ):
        value = getattr(reverb, name)
        if isinstance(reverb, NetworkReverb):
            unit_s = 1.0 if name == "decay_s" else reverb.decay_s
        elif seconds is None:
            continue
        else:
            unit_s = seconds / value
        low, high = range_of_field(type(reverb).model_fields[name]) or (0.0, 1.0)
        made.append(
            {
                "set": f"{strip.id} chain/{place}/{name}",
                "title": title,
                "x": _x(min(max(hertz, _LOWEST_HZ), _HIGHEST_HZ)),
                "y": _y(value * unit_s),
                "seconds": value * unit_s,
                "unit_s": unit_s,
                "low": low,
                "high": high,
            }
        )
    return made


def _measured_at(told: RoomResponse, hertz: float) -> float | None:
    nearest = int(np.argmin(np.abs(np.log(np.array(OCTAVES_HZ) / hertz))))
    return told.octaves[nearest].decay_s
