"""A path recorded by hand as automation: thinned as far as the ear allows, set into what was there."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from metaphon.core.errors import InputError
from metaphon.core.scene.mix import Automation, Breakpoint, Mix
from metaphon.core.spatial.directions import unit_vectors

THINNED_TO_DEG = 1.0  # about the least change of direction that is heard in front (Blauert 1997, section 2.1)
_JUST_BEFORE_S = 0.001
_MOST_POINTS = 20000

Point = tuple[float, float, float]


def recorded(mix: Mix, strip_id: str, points: Sequence[Point], within_deg: float = THINNED_TO_DEG) -> Mix:
    """Set a path, (seconds, azimuth, elevation) each, into the automation of a strip.

    What was there stays before and after the recording. Raises InputError for a path that is too short or not in
    order of time.
    """
    strip = next((strip for strip in mix.strips if strip.id == strip_id), None)
    if strip is None:
        raise InputError("This track is no longer in the mix.")
    path = np.array(points, dtype=float).reshape(-1, 3)
    if not 2 <= len(path) <= _MOST_POINTS or not np.isfinite(path).all() or np.any(np.diff(path[:, 0]) <= 0.0):
        raise InputError("Nothing was recorded; press Record, play, and drag a source.")
    times, azimuth, elevation = path[:, 0], np.unwrap(path[:, 1], period=360.0), np.clip(path[:, 2], -90.0, 90.0)
    kept = thinned(times, azimuth, elevation, within_deg)
    lanes = {lane.target: lane for lane in mix.automation}
    place = strip.placement
    for name, still, values in (
        ("azimuth_deg", place.azimuth_deg, azimuth),
        ("elevation_deg", place.elevation_deg, elevation),
    ):
        target = f"{strip_id}/placement/{name}"
        lanes[target] = _set_in(lanes.get(target), target, still, times[kept], values[kept])
    return mix.model_copy(update={"automation": tuple(lanes[target] for target in sorted(lanes))})


def still(mix: Mix, strip_id: str) -> Mix:
    """Take the automation of a strip's place away; it stays where its placement says."""
    return mix.model_copy(
        update={"automation": tuple(a for a in mix.automation if not a.target.startswith(f"{strip_id}/placement/"))}
    )


def thinned(
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
        if apart[worst] > within_deg:
            middle = first + 1 + worst
            kept.add(middle)
            waiting += [(first, middle), (middle, last)]
    return sorted(kept)


def _set_in(
    lane: Automation | None, target: str, value: float, times_s: NDArray[np.float64], values: NDArray[np.float64]
) -> Automation:
    begins, ends = float(times_s[0]), float(times_s[-1])
    old = lane.points if lane else (Breakpoint(t_s=0.0, value=value),)
    before = float(np.interp(begins, [p.t_s for p in old], [p.value for p in old]))
    if target.endswith("azimuth_deg"):  # the turn nearest to where it comes from
        values = values + 360.0 * np.round((before - values[0]) / 360.0)
    head = [p for p in old if p.t_s < begins - _JUST_BEFORE_S]
    if begins > _JUST_BEFORE_S:
        head.append(Breakpoint(t_s=begins - _JUST_BEFORE_S, value=before))
    tail = [p for p in old if p.t_s > ends] if lane else []
    new = [Breakpoint(t_s=round(float(t), 4), value=round(float(v), 3)) for t, v in zip(times_s, values, strict=True)]
    return Automation(target=target, points=tuple(sorted((*head, *new, *tail), key=lambda p: p.t_s)))
