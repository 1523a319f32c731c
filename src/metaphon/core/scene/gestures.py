"""A path recorded or drawn by hand as automation: thinned as far as the ear allows, set into what was there."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from metaphon.core.errors import InputError
from metaphon.core.scene.conversion import FORMS, in_form
from metaphon.core.scene.lanes import MOST_POINTS, drawn
from metaphon.core.scene.mix import Breakpoint, Mix, Strip
from metaphon.core.spatial.directions import unit_vectors, wrap_azimuth

THINNED_TO_DEG = 1.0  # about the least change of direction that is heard in front (Blauert 1997, section 2.1)
_MOST_TURN_DEG = 150.0  # between two breakpoints, so that the shorter way is the one that was meant

Point = tuple[float, float, float]


def recorded(mix: Mix, strip_id: str, points: Sequence[Point], within_deg: float = THINNED_TO_DEG) -> Mix:
    """Set a path, (seconds, azimuth, elevation) each, into the automation of a strip, in the form that it uses.

    What was there stays before and after the recording. Raises InputError for a path that is too short, not in
    order of time, or of a strip that is locked.
    """
    strip = strip_of(mix, strip_id)
    if strip.placement.locked:
        raise InputError(f"{strip.name} is locked; unlock it first.")
    path = np.array(points, dtype=float).reshape(-1, 3)
    if not 2 <= len(path) <= MOST_POINTS or not np.isfinite(path).all() or np.any(np.diff(path[:, 0]) <= 0.0):
        raise InputError("Nothing was recorded; press Record, play, and drag a source.")
    times, azimuth, elevation = path[:, 0], np.unwrap(path[:, 1], period=360.0), np.clip(path[:, 2], -90.0, 90.0)
    kept = thinned_path(times, azimuth, elevation, within_deg)
    times, azimuth, elevation = times[kept], azimuth[kept], elevation[kept]
    place = strip.placement
    still = np.ones(len(kept))
    sphere = np.array([azimuth, elevation, still * place.distance, still * 0.0, still * 0.0, still * 0.0])
    if place.coordinates == "cube":
        sphere[2] = 1.0  # the chart has directions only: it moves along the walls
    rows = in_form(sphere, "sphere", place.coordinates, place.reference)
    names = FORMS[place.coordinates][: 3 if place.coordinates == "cube" else 2]
    for name, values in zip(names, rows, strict=False):
        if name == "azimuth_deg":
            values = wrap_azimuth(values)
        points_of = [
            Breakpoint(t_s=round(float(t), 4), value=round(float(v), 4)) for t, v in zip(times, values, strict=True)
        ]
        mix = drawn(mix, f"{strip_id}/placement/{name}", points_of, getattr(place, name))
    return mix


def still(mix: Mix, strip_id: str) -> Mix:
    """Take the automation of a strip's place away; it stays where its placement says."""
    return mix.model_copy(
        update={"automation": tuple(a for a in mix.automation if not a.target.startswith(f"{strip_id}/placement/"))}
    )


def strip_of(mix: Mix, strip_id: str) -> Strip:
    """A strip by its id. Raises InputError where it is gone."""
    strip = next((strip for strip in mix.strips if strip.id == strip_id), None)
    if strip is None:
        raise InputError("This track is no longer in the mix.")
    return strip


def thinned_path(
    times_s: NDArray[np.float64],
    azimuth_deg: NDArray[np.float64],
    elevation_deg: NDArray[np.float64],
    within_deg: float,
) -> list[int]:
    """Which points of a path to keep so that, at every point, straight lines between them stay within an angle of it.

    Azimuth runs on past 180 degrees. Source: Ramer 1972, Douglas & Peucker 1973, with the angle as distance.
    """
    wanted = unit_vectors(azimuth_deg, elevation_deg)
    kept = {0, len(times_s) - 1}
    waiting = [(0, len(times_s) - 1)]
    while waiting:
        first, last = waiting.pop()
        if last - first < 2:
            continue
        inner = slice(first + 1, last)
        ends = times_s[[first, last]]
        line = unit_vectors(
            np.interp(times_s[inner], ends, azimuth_deg[[first, last]]),
            np.interp(times_s[inner], ends, elevation_deg[[first, last]]),
        )
        apart = np.degrees(np.arccos(np.clip(np.sum(line * wanted[inner], axis=-1), -1.0, 1.0)))
        worst = int(np.argmax(apart))
        far = abs(azimuth_deg[last] - azimuth_deg[first]) > _MOST_TURN_DEG
        if apart[worst] > within_deg or far:
            middle = first + 1 + worst if apart[worst] > within_deg else (first + last) // 2
            kept.add(middle)
            waiting += [(first, middle), (middle, last)]
    return sorted(kept)
