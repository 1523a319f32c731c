"""A value set by hand where a lane moves it: the whole lane is trimmed by the difference."""

import numpy as np

from metaphon.core.document.lanes import (
    is_turning,
    lane_of,
    points_of,
    range_of,
    value_at,
    with_lane,
)
from metaphon.core.document.mix import Automation, Mix
from metaphon.core.document.part import SILENT_DB
from metaphon.core.document.value_paths import field_at, parsed
from metaphon.core.edits.command import strip_of
from metaphon.core.edits.typed_values import extra_of
from metaphon.core.errors import InputError
from metaphon.core.spatial.directions import wrap_azimuth

_LEAST = 1e-9  # of a range: less is no move


def lane_value(mix: Mix, target: str, at_s: float) -> float | None:
    """What a lane says at a time; None where there is no lane."""
    if points_of(mix, target) is None:
        return None
    value = value_at(lane_of(mix, target), at_s)
    return float(wrap_azimuth(value)) if is_turning(target) else value


def room_for(mix: Mix, target: str) -> tuple[float, float]:
    """How far a lane may be moved down and up, so that none of its values leaves the range.

    What is silent stays silent and does not count.
    """
    low, high = range_of(mix, target)
    values = _audible(lane_of(mix, target), low)
    if is_turning(target) or not len(values):
        return low - high, high - low
    return low - float(values.min()), high - float(values.max())


def shifted_lane(mix: Mix, target: str, step: float) -> Mix:
    """The mix with a lane moved by a step, held in range; angles go round, silence stays."""
    lane = lane_of(mix, target)
    low, high = range_of(mix, target)
    values = lane.points.values + step
    if is_turning(target):
        values = wrap_azimuth(values)
    else:
        values = np.where(lane.points.values <= max(low, SILENT_DB), lane.points.values, values)
    held = np.clip(np.round(values, 6), low, high)
    return with_lane(mix, lane.model_copy(update={"points": lane.points.with_values(held)}))


def trimmed_to(mix: Mix, target: str, value: float, at_s: float) -> Mix:
    """The mix with a lane moved as a whole, so that it has a value at a time.

    As far as its other values leave room. On a logarithmic scale it is moved by a ratio.

    Raises
    ------
    InputError
        Where its other values leave no room at all.
    """
    low, high = range_of(mix, target)
    strip_id, _, path = target.partition("/")
    found = field_at(strip_of(mix, strip_id), parsed(path))
    extra = extra_of(type(found[0]).model_fields[found[1]]) if found else {}
    now = lane_value(mix, target, at_s)
    assert now is not None
    if extra.get("scale") == "log" and now > 0.0:
        return _scaled(mix, target, value / now)
    if value <= SILENT_DB < now:
        raise InputError(
            "Automation moves this level; write over it to silence it, or mute the track."
        )
    least, most = room_for(mix, target)
    step = float(np.clip(value - now, least, most))
    if abs(step) < _LEAST * (high - low) < abs(value - now):
        raise _no_room(value - now)
    return shifted_lane(mix, target, step)


def _scaled(mix: Mix, target: str, ratio: float) -> Mix:
    low, high = range_of(mix, target)
    lane = lane_of(mix, target)
    values = lane.points.values
    held = float(np.clip(ratio, low / values.min(), high / values.max()))
    if abs(held - 1.0) < _LEAST < abs(ratio - 1.0):
        raise _no_room(ratio - 1.0)
    points = lane.points.with_values(np.clip(np.round(values * held, 6), low, high))
    return with_lane(mix, lane.model_copy(update={"points": points}))


def _no_room(wanted: float) -> InputError:
    end = "highest" if wanted > 0.0 else "lowest"
    return InputError(
        f"Automation already reaches the {end} value elsewhere; write over it, or scale its lane."
    )


def _audible(lane: Automation, low: float) -> np.ndarray:
    values = lane.points.values
    return values[values > SILENT_DB] if low <= SILENT_DB else values
