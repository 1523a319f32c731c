"""Automation lanes as they are read.

Values between breakpoints, and the lanes of a mix by what they move.
"""

from collections.abc import Iterable

import numpy as np
from numpy.typing import ArrayLike, NDArray

from metaphon.core.document.breakpoints import Breakpoints
from metaphon.core.document.mix import Automation, Mix
from metaphon.core.document.value_paths import lane_path, movable_range
from metaphon.core.errors import InputError, Vanished, sentence_case

TURNING = ("azimuth_deg", "roll_deg")  # angles that go all the way round


def is_turning(target: str) -> bool:
    """Whether a lane holds an angle that goes round."""
    return target.rsplit("/", 1)[-1] in TURNING


def values_at(points: Breakpoints, times_s: ArrayLike, turns: bool = False) -> NDArray[np.float64]:
    """The value at times: each breakpoint's curve holds up to the next; the outermost values go on.

    Parameters
    ----------
    points : Breakpoints
        What is read.
    times_s : array of shape (times,)
        Seconds.
    turns : bool
        Whether the values are angles in degrees that go the shorter way round; the result then runs
        on past 180.

    Returns
    -------
    array of shape (times,)
    """
    times = np.asarray(times_s, dtype=float)
    at, curves = points.times_s, points.curves
    values = points.turned if turns else points.values
    if len(at) == 1:
        return np.full_like(times, values[0])
    place = np.clip(np.searchsorted(at, times, side="right") - 1, 0, len(at) - 2)
    span = at[place + 1] - at[place]
    way = np.clip((times - at[place]) / np.where(span > 0.0, span, 1.0), 0.0, 1.0)
    kinds = curves[place]
    way = np.where(
        kinds == 1, np.floor(way), np.where(kinds == 2, way * way * (3.0 - 2.0 * way), way)
    )
    way = np.where(times >= at[-1], 1.0, way)
    return np.asarray(values[place] + (values[place + 1] - values[place]) * way)


def value_at(lane: Automation, time_s: float) -> float:
    """The value of a lane at one time."""
    return float(values_at(lane.points, np.array([time_s]), is_turning(lane.target))[0])


def with_lane(mix: Mix, lane: Automation) -> Mix:
    """The mix with a lane added, or taking the place of the one that moves the same."""
    others = [one for one in mix.automation if one.target != lane.target]
    return mix.model_copy(
        update={"automation": tuple(sorted((*others, lane), key=lambda one: one.target))}
    )


def without_lanes(mix: Mix, targets: Iterable[str]) -> Mix:
    """The mix without some lanes, where there are any; values stay where the strips say."""
    gone = set(targets)
    return mix.model_copy(
        update={"automation": tuple(one for one in mix.automation if one.target not in gone)}
    )


def lanes_of(mix: Mix, strip_id: str) -> dict[str, Automation]:
    """The lanes of a strip by the path of what they move."""
    head = f"{strip_id}/"
    return {
        lane.target.removeprefix(head): lane
        for lane in mix.automation
        if lane.target.startswith(head)
    }


def points_of(mix: Mix, target: str) -> Breakpoints | None:
    """The breakpoints of a lane; None where there is no lane."""
    return next((lane.points for lane in mix.automation if lane.target == target), None)


def lane_of(mix: Mix, target: str) -> Automation:
    """A lane of the mix. Raises Vanished where there is none."""
    found = next((lane for lane in mix.automation if lane.target == target), None)
    if found is None:
        raise Vanished("This lane is no longer there; look again.")
    return found


def range_of(mix: Mix, target: str) -> tuple[float, float]:
    """The lowest and highest value of what a lane moves.

    Raises InputError in a sentence for what cannot move.
    """
    strips = {strip.id: strip for strip in mix.strips}
    try:
        strip_id, path = lane_path(target, strips)
    except ValueError as error:
        raise InputError(sentence_case(f"{error}.")) from None
    found = movable_range(strips[strip_id], path)
    assert found
    return found
