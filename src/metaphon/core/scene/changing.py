"""One value of a mix changed, for what is tried out before it is kept."""

from typing import Any

from pydantic import BaseModel, ValidationError

from metaphon.core.errors import InputError
from metaphon.core.scene.conversion import FORMS, other_form, said_in_own_form
from metaphon.core.scene.mix import LanePath, Mix, Strip


def with_value(mix: Mix, strip_id: str, path: LanePath, value: float | bool) -> Mix:
    """The mix with one value of a strip set: its field, a field of its placement, of a processor or band, or of a send.

    A path names fields and counts places; a send is named by its bus. Raises InputError for a path that leads
    nowhere or a value out of range.
    """

    def change(strip: Any) -> Any:
        if strip.id != strip_id:
            return strip
        changed = set_in(strip, path, value)
        return _said_in_its_form(changed, path) if path[0] == "placement" and len(path) == 2 else changed

    if strip_id not in {strip.id for strip in mix.strips}:
        raise InputError("This track is no longer in the mix.")
    return mix.with_strips(change)


def set_in(part: Any, path: LanePath, value: float | bool) -> Any:
    """A part of a mix with the value that a way leads to set. Raises InputError as `with_value` does."""
    step, *rest = path
    if isinstance(part, tuple):
        place = next((i for i, item in enumerate(part) if step in (i, getattr(item, "bus", None))), None)
        if place is None:
            raise InputError("This is no longer there; look again.")
        return (*part[:place], set_in(part[place], tuple(rest), value), *part[place + 1 :])
    if not isinstance(part, BaseModel) or step not in type(part).model_fields:
        raise InputError("There is no such value.")
    if rest:
        return part.model_copy(update={str(step): set_in(getattr(part, str(step)), tuple(rest), value)})
    if isinstance(part, Strip) and step == "id":
        raise InputError("There is no such value.")
    try:
        return type(part).model_validate({**_plain(part), str(step): value})
    except ValidationError:
        raise InputError("This value is out of range.") from None


def _plain(part: BaseModel) -> dict[str, Any]:
    return {name: getattr(part, name) for name in type(part).model_fields}


def _said_in_its_form(strip: Any, path: LanePath) -> Any:
    """Where a position was set in the form that a strip does not use: the same said in the one it does."""
    place = strip.placement
    other = other_form(place.coordinates)
    if place.mode != "object" or path[1] not in FORMS[other][:3]:
        return strip
    name = str(path[1])
    values = said_in_own_form(place, other, {name: getattr(place, name)})
    return strip.model_copy(update={"placement": place.model_copy(update=values)})
