"""Paths to single values of a strip.

What stands there, what range it has, and the strip with it set.

A path names fields and counts places: gain_db, placement/azimuth_deg, sends/BUS/level_db,
chain/0/width, chain/0/bands/1/gain_db. A send is named by its bus.
"""

from collections.abc import Mapping
from typing import Any, TypeVar

from pydantic import BaseModel, ValidationError
from pydantic.fields import FieldInfo

from metaphon.core.errors import InputError, OutOfRange, Vanished

LanePath = tuple[str | int, ...]
P = TypeVar("P", bound=BaseModel)


def parsed(path: str) -> LanePath:
    """The steps of a path, places as numbers."""
    return tuple(int(step) if step.isdecimal() else step for step in path.split("/"))


def field_at(part: Any, path: LanePath) -> tuple[BaseModel, str] | None:
    """The part that a path leads into and the name of its field there.

    None where it leads nowhere.
    """
    for step in path[:-1]:
        if isinstance(part, tuple):
            part = next(
                (item for i, item in enumerate(part) if step in (i, getattr(item, "bus", None))),
                None,
            )
        else:
            part = getattr(part, str(step)) if str(step) in _fields(part) else None
    name = str(path[-1])
    return (part, name) if name in _fields(part) else None


def _fields(part: Any) -> Mapping[str, FieldInfo]:
    return type(part).model_fields if isinstance(part, BaseModel) else {}


def value_at(part: Any, path: LanePath) -> Any:
    """The value that a path leads to. Raises InputError where it leads nowhere."""
    found = field_at(part, path)
    if found is None:
        raise InputError("There is no such value.")
    return getattr(*found)


def with_value_at(part: P, path: LanePath, value: Any) -> P:
    """A part of a mix with the value that a path leads to set.

    Raises Vanished for a path that leads nowhere, OutOfRange for a value that its field refuses.
    """
    return _with_value(part, path, value)  # type: ignore[no-any-return]


def _with_value(part: Any, path: LanePath, value: Any) -> Any:
    step, *rest = path
    if isinstance(part, tuple):
        place = next(
            (i for i, item in enumerate(part) if step in (i, getattr(item, "bus", None))), None
        )
        if place is None:
            raise Vanished("This is no longer there; look again.")
        return (*part[:place], _with_value(part[place], tuple(rest), value), *part[place + 1 :])
    name = str(step)
    if name not in _fields(part) or name in ("id", "kind"):
        raise InputError("There is no such value.")
    if rest:
        return part.model_copy(update={name: _with_value(getattr(part, name), tuple(rest), value)})
    try:
        return type(part).model_validate(
            {**{n: getattr(part, n) for n in _fields(part)}, name: value}
        )
    except ValidationError:
        raise OutOfRange("This value is out of range.") from None


def range_of_field(field: FieldInfo) -> tuple[float, float] | None:
    """The lowest and highest value of a numeric field; None where it has no such bounds."""
    low = next((m.ge for m in field.metadata if hasattr(m, "ge")), None)
    high = next((m.le for m in field.metadata if hasattr(m, "le")), None)
    return (float(low), float(high)) if low is not None and high is not None else None


def highest(model: type[BaseModel], name: str) -> float:
    """The highest value that a numeric field of a model takes.

    Raises
    ------
    TypeError
        Where it has no bounds.
    """
    bounds = range_of_field(model.model_fields[name])
    if bounds is None:
        raise TypeError(f"{name} has no bounds.")
    return bounds[1]


def within(field: FieldInfo, value: float) -> float:
    """A value held within the bounds of a numeric field, where it has any."""
    low, high = range_of_field(field) or (value, value)
    return min(max(value, low), high)


def movable_range(strip: BaseModel, path: LanePath) -> tuple[float, float] | None:
    """The lowest and highest value of the number that a path leads to.

    None where it leads to none that may move.
    """
    found = field_at(strip, path)
    if found is None:
        return None
    field = type(found[0]).model_fields[found[1]]
    extra = field.json_schema_extra if isinstance(field.json_schema_extra, dict) else {}
    if field.annotation not in (float, float | None) or not extra.get("moves", True):
        return None
    return range_of_field(field)


def lane_path(target: str, strips: Mapping[str, BaseModel]) -> tuple[str, LanePath]:
    """Say what a lane moves: the strip's id and the path to the value in it.

    Raises ValueError in a plain sentence for a target that is not there or cannot move.
    """
    strip_id, _, path = target.partition("/")
    if strip_id not in strips:
        raise ValueError(f"the automation {target} moves {strip_id}, which is not in this mix")
    if not path or movable_range(strips[strip_id], parsed(path)) is None:
        known = "gain_db, placement/azimuth_deg, sends/BUS/level_db, chain/0/width and the like"
        raise ValueError(
            f"the automation {target} moves nothing that can move; use {known} of {strip_id}"
        )
    return strip_id, parsed(path)
