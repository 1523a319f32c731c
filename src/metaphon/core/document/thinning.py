"""Which points of a path to keep so that straight lines between them stay near it."""

from collections.abc import Callable, Iterable
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from metaphon.core.document.lanes import is_turning
from metaphon.core.document.mix import Automation
from metaphon.core.spatial.directions import unit_vectors

Distances = Callable[[int, int], NDArray[np.float64]]
_MOST_TURN_DEG = (
    150.0  # between two points of an angle, so that the shorter way is the one that was meant
)


def kept_points(
    count: int,
    distances: Distances,
    within: float,
    *,
    fixed: Iterable[int] = (),
    too_far: Callable[[int, int], bool] = lambda first, last: False,
) -> list[int]:
    """Choose points of a path so that the others lie near the lines between them.

    Parameters
    ----------
    count : int
        How many points the path has.
    distances : callable
        Of two places: how far each point between them lies from the line that joins them.
    within : float
        The largest distance that is allowed, in the unit of `distances`.
    fixed : iterable of int
        Points that stay whatever their distance, beside the first and the last.
    too_far : callable
        Of two places: whether the line between them is not to be drawn at all.

    Returns
    -------
    list of int
        The places kept, rising.

    Notes
    -----
    Source: Ramer 1972; Douglas & Peucker 1973.
    """
    kept = {0, count - 1, *fixed}
    waiting = list(pairwise(sorted(kept)))
    while waiting:
        first, last = waiting.pop()
        if last - first < 2:
            continue
        apart = distances(first, last)
        worst = int(np.argmax(apart))
        near = apart[worst] <= within
        if near and not too_far(first, last):
            continue
        middle = (first + last) // 2 if near else first + 1 + worst
        kept.add(middle)
        waiting += [(first, middle), (middle, last)]
    return sorted(kept)


def thinned_lane(lane: Automation, within: float) -> Automation:
    """A lane with fewer breakpoints.

    At every one left out its value differs by no more than `within`.

    Only straight stretches are thinned; an angle that goes round keeps a breakpoint at least every
    half turn.
    """
    points, turns = lane.points, is_turning(lane.target)
    times, values = (
        points.times_s,
        np.unwrap(points.values, period=360.0) if turns else points.values,
    )
    bent = np.flatnonzero(points.curves)
    fixed = np.minimum(np.concatenate([bent, bent + 1]), len(points) - 1)

    def distances(first: int, last: int) -> NDArray[np.float64]:
        inner, ends = slice(first + 1, last), [first, last]
        return np.abs(values[inner] - np.interp(times[inner], times[ends], values[ends]))

    def too_far(first: int, last: int) -> bool:
        return turns and bool(abs(values[last] - values[first]) > _MOST_TURN_DEG)

    kept = kept_points(len(points), distances, within, fixed=fixed.tolist(), too_far=too_far)
    return lane.model_copy(update={"points": points.chosen(kept)})


def thinned_directions(
    times_s: NDArray[np.float64],
    azimuth_deg: NDArray[np.float64],
    elevation_deg: NDArray[np.float64],
    within_deg: float,
) -> list[int]:
    """Choose points of a path of directions that stay within an angle of it.

    Azimuth runs on past 180 degrees.
    """
    wanted = unit_vectors(azimuth_deg, elevation_deg)

    def distances(first: int, last: int) -> NDArray[np.float64]:
        inner, ends = slice(first + 1, last), [first, last]
        line = unit_vectors(
            np.interp(times_s[inner], times_s[ends], azimuth_deg[ends]),
            np.interp(times_s[inner], times_s[ends], elevation_deg[ends]),
        )
        result: NDArray[np.float64] = np.degrees(
            np.arccos(np.clip(np.sum(line * wanted[inner], axis=-1), -1.0, 1.0))
        )
        return result

    def too_far(first: int, last: int) -> bool:
        return bool(abs(azimuth_deg[last] - azimuth_deg[first]) > _MOST_TURN_DEG)

    return kept_points(len(times_s), distances, within_deg, too_far=too_far)
