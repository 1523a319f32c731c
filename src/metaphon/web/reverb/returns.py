"""Where a return stands in the mix: as a bed, as objects at directions, or as a scene."""

from typing import Any, NamedTuple

from metaphon.core.document.mix import Bus
from metaphon.core.spatial.virtual_loudspeakers import ABOVE, BEHIND_DEG


class _Place(NamedTuple):
    title: str
    said: str
    layout: str
    mode: str
    placement: dict[str, float]


_FLAT: dict[str, float] = {"azimuth_deg": 0.0, "elevation_deg": 0.0}
_PLACES = (
    _Place("Stereo bed", "At the front left and right.", "0+2+0", "0+2+0", _FLAT),
    _Place("5.1 bed", "Round the listener, at the height of the ears.", "0+5+0", "0+5+0", _FLAT),
    _Place("7.1.4 bed", "Round the listener and above.", "4+7+0", "4+7+0", _FLAT),
    _Place(
        "Behind",
        "Two objects at 130 degrees, the left one at the left.",
        "0+2+0",
        "object",
        {"azimuth_deg": 180.0, "elevation_deg": 0.0, "pair_deg": BEHIND_DEG},
    ),
    _Place(
        "Above and behind",
        "Two objects at 130 degrees, 45 up, the left one at the left.",
        "0+2+0",
        "object",
        {"azimuth_deg": 180.0, "elevation_deg": 45.0, "pair_deg": BEHIND_DEG},
    ),
    _Place(
        "Above",
        "Four objects, 50 degrees up.",
        ABOVE.name,
        "object",
        _FLAT,
    ),
    _Place("Scene, order 1", "From everywhere, as an ambisonic scene.", "scene1", "scene", _FLAT),
    _Place("Scene, order 3", "From everywhere, finer.", "scene3", "scene", _FLAT),
)


def places_for(bus: Bus) -> list[dict[str, Any]]:
    """Every place, its command, and whether the bus stands there."""
    return [
        {
            "title": place.title,
            "said": place.said,
            "chosen": _stands(bus, place),
            "command": _command(bus, place),
        }
        for place in _PLACES
    ]


def _command(bus: Bus, place: _Place) -> dict[str, Any]:
    commands: list[dict[str, Any]] = [
        {"kind": "set_layout", "strip": bus.id, "layout": place.layout},
        {"kind": "place", "strips": [bus.id], "mode": place.mode},
    ]
    commands += [
        {"kind": "set", "strips": [bus.id], "path": f"placement/{name}", "value": value}
        for name, value in place.placement.items()
    ]
    return {"kind": "batch", "commands": commands, "words": f"{bus.name}: {place.title.lower()}"}


def _stands(bus: Bus, place: _Place) -> bool:
    held = bus.placement
    mode = held.layout if held.mode == "bed" else held.mode
    return (
        bus.layout == place.layout
        and mode == place.mode
        and all(getattr(held, name) == value for name, value in place.placement.items())
    )
