"""What is done to automation lanes: values between breakpoints; trimmed, scaled, drawn into, copied, thinned."""

from collections.abc import Callable, Sequence
from itertools import pairwise

import numpy as np
from numpy.typing import ArrayLike, NDArray

from metaphon.core.errors import InputError
from metaphon.core.scene.mix import TURNING, Automation, Breakpoint, Mix, automated, range_of
from metaphon.core.spatial.directions import wrap_azimuth

JUST_BEFORE_S = 0.001
MOST_POINTS = 20000


Columns = tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.intp]]


def columns_of(points: Sequence[Breakpoint], turns: bool = False) -> Columns:
    """Times, values and curves of breakpoints, ready for `interpolated`; angles that turn go the shorter way."""
    values = np.array([p.value for p in points], dtype=float)
    curves = np.array([("linear", "hold", "smooth").index(p.curve) for p in points])
    return np.array([p.t_s for p in points]), np.unwrap(values, period=360.0) if turns else values, curves


def interpolated(columns: Columns, times_s: ArrayLike) -> NDArray[np.float64]:
    """The value at times, in seconds: each breakpoint's curve holds up to the next; the outermost values go on.

    Of angles that turn the result runs on past 180 degrees.
    """
    times = np.asarray(times_s, dtype=float)
    at, values, curves = columns
    if len(at) == 1:
        return np.full_like(times, values[0])
    place = np.clip(np.searchsorted(at, times, side="right") - 1, 0, len(at) - 2)
    span = at[place + 1] - at[place]
    way = np.clip((times - at[place]) / np.where(span > 0.0, span, 1.0), 0.0, 1.0)
    kinds = curves[place]
    way = np.where(kinds == 1, np.floor(way), np.where(kinds == 2, way * way * (3.0 - 2.0 * way), way))
    way = np.where(times >= at[-1], 1.0, way)
    return values[place] + (values[place + 1] - values[place]) * way


def values_at(points: Sequence[Breakpoint], times_s: ArrayLike, turns: bool = False) -> NDArray[np.float64]:
    """The values of breakpoints at times, as `interpolated` gives them."""
    return interpolated(columns_of(points, turns), times_s)


def value_at(lane: Automation, time_s: float) -> float:
    """The value of a lane at one time."""
    return float(values_at(lane.points, np.array([time_s]), is_turning(lane.target))[0])


def is_turning(target: str) -> bool:
    """Whether a lane holds an angle that goes round."""
    return target.rsplit("/", 1)[-1] in TURNING


def with_lane(mix: Mix, lane: Automation) -> Mix:
    """The mix with a lane added, or taking the place of the one that moves the same."""
    others = [one for one in mix.automation if one.target != lane.target]
    return mix.model_copy(update={"automation": tuple(sorted((*others, lane), key=lambda one: one.target))})


def without_lane(mix: Mix, target: str) -> Mix:
    """The mix without a lane; its value stays where the strip says."""
    return mix.model_copy(update={"automation": tuple(one for one in mix.automation if one.target != target)})


def lane_of(mix: Mix, target: str) -> Automation:
    """A lane of the mix. Raises InputError where there is none."""
    found = next((lane for lane in mix.automation if lane.target == target), None)
    if found is None:
        raise InputError("This lane is no longer there; look again.")
    return found


def drawn(mix: Mix, target: str, points: Sequence[Breakpoint], still: float | None = None) -> Mix:
    """Set breakpoints into a lane in place of what was between the first and the last of them; makes the lane.

    What was before and after stays; `still` is the value before where there was no lane. Raises InputError for points
    that are none or out of range, and for what cannot move.
    """
    found = sorted(points, key=lambda p: p.t_s)
    if not found or len(found) > MOST_POINTS:
        raise InputError("Nothing was drawn; press and move along the lane.")
    low, high = range_of(mix, checked(mix, Automation(target=target, points=tuple(found))).target)
    if any(not low <= p.value <= high for p in found):
        raise InputError(f"This lane goes from {low:g} to {high:g}; draw within it.")
    held = next((one for one in mix.automation if one.target == target), None)
    old = held.points if held else () if still is None else (Breakpoint(t_s=0.0, value=still),)
    begins, ends = found[0].t_s, found[-1].t_s
    head = [p for p in old if p.t_s < begins - JUST_BEFORE_S]
    if head and len(found) > 1:
        just_before = begins - JUST_BEFORE_S
        before = float(values_at(old, np.array([just_before]), is_turning(target))[0])
        head.append(Breakpoint(t_s=round(just_before, 4), value=round(_within(target, before), 4)))
    tail = [p for p in old if p.t_s > ends] if held else []
    return with_lane(mix, Automation(target=target, points=(*head, *found, *tail)))


def _within(target: str, value: float) -> float:
    """An angle that turns, brought back into its range."""
    return float(wrap_azimuth(value)) if is_turning(target) else value


def checked(mix: Mix, lane: Automation) -> Automation:
    """A lane whose target can move. Raises InputError in a sentence where it cannot."""
    try:
        automated(mix, lane)
    except ValueError as error:
        raise InputError(str(error)[0].upper() + str(error)[1:] + ".") from None
    return lane


def trimmed(lane: Automation, start_s: float, end_s: float) -> Automation:
    """Only what lies between two times; the values at its ends are held outside."""
    inner = [p for p in lane.points if start_s < p.t_s < end_s]
    ends = [Breakpoint(t_s=t, value=round(_within(lane.target, value_at(lane, t)), 6)) for t in (start_s, end_s)]
    return lane.model_copy(update={"points": (ends[0], *inner, ends[1])})


def stretched(lane: Automation, factor: float, by_s: float = 0.0) -> Automation:
    """Slower (factor above 1) or faster from its first breakpoint on, and later by some seconds."""
    first = lane.points[0].t_s
    return _each(lane, lambda p: {"t_s": round(max(first + (p.t_s - first) * factor + by_s, 0.0), 4)})


def scaled(lane: Automation, factor: float, about: float, low: float, high: float) -> Automation:
    """Larger (factor above 1) or smaller swings about a value, held within a range where it does not turn."""

    def change(p: Breakpoint) -> dict[str, float]:
        value = about + (p.value - about) * factor
        return {
            "value": round(_within(lane.target, value) if is_turning(lane.target) else min(max(value, low), high), 4)
        }

    return _each(lane, change)


def _each(lane: Automation, change: Callable[[Breakpoint], dict[str, float]]) -> Automation:
    return lane.model_copy(update={"points": tuple(p.model_copy(update=change(p)) for p in lane.points)})


def copied(mix: Mix, targets: Sequence[str], strip_ids: Sequence[str]) -> Mix:
    """Give lanes of one strip to others as well; what they have of the same kind is replaced.

    Raises InputError where another has nothing that such a lane can move.
    """
    for target in targets:
        lane = lane_of(mix, target)
        for strip_id in strip_ids:
            other = f"{strip_id}/{target.split('/', 1)[1]}"
            if other != target:
                mix = with_lane(mix, checked(mix, lane.model_copy(update={"target": other})))
    return mix


def thinned(lane: Automation, within: float) -> Automation:
    """Fewer breakpoints, so that at every one left out the value differs by no more than `within`.

    Only straight stretches are thinned. Source: Ramer 1972, Douglas & Peucker 1973.
    """
    times = np.array([p.t_s for p in lane.points])
    values = np.array([p.value for p in lane.points])
    if is_turning(lane.target):
        values = np.unwrap(values, period=360.0)
    straight = [p.curve == "linear" for p in lane.points]
    kept = {0, len(times) - 1, *(i for i, plain in enumerate(straight) if not plain)}
    kept |= {i + 1 for i in list(kept) if i + 1 < len(times) and not straight[i]}
    marks = sorted(kept)
    waiting = list(pairwise(marks))
    while waiting:
        first, last = waiting.pop()
        if last - first < 2:
            continue
        line = np.interp(times[first:last], times[[first, last]], values[[first, last]])
        apart = np.abs(values[first:last] - line)
        # an angle that goes round needs a breakpoint at least every half turn, or it would go the other way
        far = is_turning(lane.target) and abs(values[last] - values[first]) >= 170.0
        worst = int(np.argmax(apart)) if not far or apart.max() > within else (last - first) // 2
        if apart[worst] > within or far:
            middle = first + max(worst, 1)
            kept.add(middle)
            waiting += [(first, middle), (middle, last)]
    return lane.model_copy(update={"points": tuple(lane.points[i] for i in sorted(kept))})
