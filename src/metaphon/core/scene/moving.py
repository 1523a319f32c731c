"""Places of several strips changed together: set, turned, mirrored. Their automation goes with them."""

from collections.abc import Callable, Mapping
from typing import Any

import numpy as np

from metaphon.core.errors import InputError
from metaphon.core.scene.mix import Automation, Mix
from metaphon.core.spatial.directions import wrap_azimuth


def moved(mix: Mix, places: Mapping[str, tuple[float, ...]]) -> Mix:
    """Set azimuth and elevation in degrees, and the distance where it is given, of strips by id.

    Azimuth wraps round, elevation is held at the poles. Raises InputError for one whose place is automated.
    """
    for strip_id in places:
        lanes = {f"{strip_id}/placement/azimuth_deg", f"{strip_id}/placement/elevation_deg"}
        if any(lane.target in lanes for lane in mix.automation):
            name = next(strip.name for strip in mix.strips if strip.id == strip_id)
            raise InputError(f"{name} moves by automation; turn or mirror it, or take its lane away first.")

    def change(strip: Any) -> dict[str, float]:
        azimuth, elevation, *away = places[strip.id]
        return {
            "azimuth_deg": round(float(wrap_azimuth(azimuth)), 3),
            "elevation_deg": round(float(np.clip(elevation, -90.0, 90.0)), 3),
            **({"distance": round(away[0], 4)} if away else {}),
        }

    return _placed(mix, set(places), change)


def turned(mix: Mix, strip_ids: set[str], by_deg: float) -> Mix:
    """Turn strips to the left about the vertical axis; what moves keeps its path."""
    lanes = _lanes(mix, strip_ids, "azimuth_deg", lambda value: value + by_deg)
    return _placed(
        lanes, strip_ids, lambda s: {"azimuth_deg": round(float(wrap_azimuth(s.placement.azimuth_deg + by_deg)), 3)}
    )


def mirrored(mix: Mix, strip_ids: set[str]) -> Mix:
    """Exchange left and right of the places of strips; their sound stays as it is."""
    lanes = _lanes(mix, strip_ids, "azimuth_deg", lambda value: -value)
    return _placed(lanes, strip_ids, lambda s: {"azimuth_deg": float(wrap_azimuth(-s.placement.azimuth_deg))})


def _placed(mix: Mix, strip_ids: set[str], change: Callable[[Any], dict[str, float]]) -> Mix:
    def one(strip: Any) -> Any:
        if strip.id not in strip_ids:
            return strip
        return strip.model_copy(update={"placement": strip.placement.model_copy(update=change(strip))})

    return mix.with_strips(one)


def _lanes(mix: Mix, strip_ids: set[str], parameter: str, change: Callable[[float], float]) -> Mix:
    wanted = {f"{strip_id}/placement/{parameter}" for strip_id in strip_ids}

    def one(lane: Automation) -> Automation:
        if lane.target not in wanted:
            return lane
        points = tuple(p.model_copy(update={"value": change(p.value)}) for p in lane.points)
        return lane.model_copy(update={"points": points})

    return mix.model_copy(update={"automation": tuple(map(one, mix.automation))})
