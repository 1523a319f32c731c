"""A mix as one of its alternatives, and as a listener has changed it."""

from typing import Any

import numpy as np
from pydantic import Field

from metaphon.core.document.alternatives import Alternative, Varied
from metaphon.core.document.breakpoints import Breakpoints
from metaphon.core.document.mix import Automation, Mix, Strip
from metaphon.core.document.part import Part
from metaphon.core.errors import Vanished


class Change(Part):
    """What a listener has changed of a strip: on or off, a gain in dB, and how far it is moved."""

    strip: str
    heard: bool | None = None
    gain_db: float = Field(0.0, ge=-60.0, le=12.0)
    azimuth_deg: float = Field(0.0, ge=-180.0, le=180.0)
    elevation_deg: float = Field(0.0, ge=-90.0, le=90.0)


def alternative_of(mix: Mix, identifier: str) -> Alternative:
    """An alternative of a mix by its id. Raises Vanished where it is gone."""
    found = mix.alternatives.find(identifier)
    if found is None:
        raise Vanished("This alternative is no longer in the mix; choose another.")
    return found


def as_alternative(mix: Mix, identifier: str) -> Mix:
    """The mix as one of its alternatives sounds; itself for an empty id.

    Raises Vanished where it is gone.
    """
    if not identifier:
        return mix
    heard = {"as_in_mix": None, "heard": True, "silent": False}
    for one in alternative_of(mix, identifier).variations:
        mix = _changed(mix, Change(strip=one.strip, heard=heard[one.heard], gain_db=one.gain_db))
    return mix


def as_personal(mix: Mix, changes: tuple[Change, ...]) -> Mix:
    """The mix as a listener has changed it, within what it allows."""
    allowed = {one.strip: one for one in mix.alternatives.varied}
    for change in changes:
        if change.strip in allowed:
            mix = _changed(mix, _within(change, allowed[change.strip]))
    return mix


def _within(change: Change, allowed: Varied) -> Change:
    def kept(value: float, least: float, most: float) -> float:
        return min(max(value, least), most)

    return Change(
        strip=change.strip,
        heard=change.heard if allowed.switched or allowed.choice else None,
        gain_db=kept(change.gain_db, allowed.least_db, allowed.most_db),
        azimuth_deg=kept(change.azimuth_deg, -allowed.azimuth_deg, allowed.azimuth_deg),
        elevation_deg=kept(change.elevation_deg, -allowed.elevation_deg, allowed.elevation_deg),
    )


def _changed(mix: Mix, change: Change) -> Mix:
    strip = mix.find_strip(change.strip)
    if strip is None:
        return mix
    moved = change.azimuth_deg or change.elevation_deg
    if moved and (strip.placement.mode != "object" or strip.placement.coordinates != "sphere"):
        change, moved = change.model_copy(update={"azimuth_deg": 0, "elevation_deg": 0}), 0.0
    new = strip.model_copy(update=_values(strip, change))
    lanes = tuple(_shifted(lane, strip.id, change) for lane in mix.automation)
    return mix.with_strip(new).model_copy(update={"automation": lanes})


def _values(strip: Strip, change: Change) -> dict[str, Any]:
    place = strip.placement
    update: dict[str, Any] = {
        "gain_db": strip.gain_db + change.gain_db,
        "placement": place.model_copy(
            update={
                "azimuth_deg": _round(place.azimuth_deg + change.azimuth_deg),
                "elevation_deg": min(max(place.elevation_deg + change.elevation_deg, -90.0), 90.0),
            }
        ),
    }
    if change.heard is not None:
        update |= {"muted": not change.heard}
    if change.heard:
        update |= {"resting": False}
    return update


def _round(azimuth_deg: float) -> float:
    return 180.0 - (180.0 - azimuth_deg) % 360.0


def _shifted(lane: Automation, strip: str, change: Change) -> Automation:
    by = {
        f"{strip}/gain_db": change.gain_db,
        f"{strip}/placement/azimuth_deg": change.azimuth_deg,
        f"{strip}/placement/elevation_deg": change.elevation_deg,
    }.get(lane.target, 0.0)
    if not by:
        return lane
    values = lane.points.values + by
    if lane.target.endswith("azimuth_deg"):
        values = 180.0 - (180.0 - values) % 360.0
    elif lane.target.endswith("elevation_deg"):
        values = np.clip(values, -90.0, 90.0)
    points = Breakpoints(lane.points.times_s, values, lane.points.curves)
    return lane.model_copy(update={"points": points})
