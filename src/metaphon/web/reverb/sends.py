"""The matrix of sends: every track and bus against every space."""

from typing import Any

from django.http import QueryDict

from metaphon.core.document.graph import ordered
from metaphon.core.document.mix import Bus, Strip
from metaphon.core.document.mix import Mix as Document
from metaphon.core.edits.routing import TAPS
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.permissions import User

_FREE_FIELD_DB = 6.0  # softer at twice the distance


def spaces_of(document: Document) -> list[Bus]:
    """The buses that hold a reverb, awake."""
    return [
        bus for bus in document.buses if not bus.resting and any(one.is_reverb for one in bus.chain)
    ]


def shown(mix: Mix, document: Document, given: QueryDict, user: User) -> dict[str, Any]:
    """A row for each strip, a cell for each space."""
    spaces = spaces_of(document)
    before = {strip.id: place for place, strip in enumerate(ordered(document))}
    rows = [
        (strip, [_cell(strip, space, before) for space in spaces], _balance(strip))
        for strip in document.strips
        if not strip.resting and strip not in spaces
    ]
    return {"spaces": spaces, "rows": rows, "taps": TAPS.items()}


def _balance(strip: Strip) -> dict[str, Any] | None:
    """Whether an object's sound falls with distance while what it sends does not, and the command
    that turns it over; None for what has no distance.
    """
    place = strip.placement
    if place.mode != "object":
        return None
    on = place.level_db_per_doubling > 0.0 and not place.sends_too
    values = {"level_db_per_doubling": 0.0 if on else _FREE_FIELD_DB, "sends_too": False}
    commands = [
        {"kind": "set", "strips": [strip.id], "path": f"placement/{name}", "value": value}
        for name, value in values.items()
    ]
    words = f"{strip.name}: the room {'stays with it' if on else 'is left behind'} at a distance"
    return {"on": on, "command": {"kind": "batch", "commands": commands, "words": words}}


def _cell(strip: Strip, space: Bus, before: dict[str, int]) -> dict[str, Any]:
    """The send of a strip to a space; one that would run in a loop cannot be made."""
    held = next((send for send in strip.sends if send.bus == space.id), None)
    head = f"sends/{space.id}"
    can_be = held is not None or before[strip.id] < before[space.id]
    return {
        "space": space,
        "send": held,
        "head": head,
        "path": f"{head}/level_db",
        "can_be": can_be,
    }
