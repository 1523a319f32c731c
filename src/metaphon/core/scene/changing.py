"""One value of a mix changed, for what is tried out before it is kept."""

from typing import Any

from pydantic import BaseModel, ValidationError

from metaphon.core.errors import InputError
from metaphon.core.scene.mix import Mix, Strip

Path = tuple[str | int, ...]


def with_value(mix: Mix, strip_id: str, path: Path, value: float | bool) -> Mix:
    """The mix with one value of a strip set: its field, a field of its placement, of a processor or band, or of a send.

    A path names fields and counts places; a send is named by its bus. Raises InputError for a path that leads
    nowhere or a value out of range.
    """

    def change(strip: Any) -> Any:
        return _set(strip, path, value) if strip.id == strip_id else strip

    if strip_id not in {strip.id for strip in mix.strips}:
        raise InputError("This track is no longer in the mix.")
    return mix.with_strips(change)


def _set(part: Any, path: Path, value: float | bool) -> Any:
    step, *rest = path
    if isinstance(part, tuple):
        place = next((i for i, item in enumerate(part) if step in (i, getattr(item, "bus", None))), None)
        if place is None:
            raise InputError("This is no longer there; look again.")
        return (*part[:place], _set(part[place], tuple(rest), value), *part[place + 1 :])
    if not isinstance(part, BaseModel) or step not in type(part).model_fields:
        raise InputError("There is no such value.")
    if rest:
        return part.model_copy(update={str(step): _set(getattr(part, str(step)), tuple(rest), value)})
    if isinstance(part, Strip) and step == "id":
        raise InputError("There is no such value.")
    try:
        return type(part).model_validate({**_plain(part), str(step): value})
    except ValidationError:
        raise InputError("This value is out of range.") from None


def _plain(part: BaseModel) -> dict[str, Any]:
    return {name: getattr(part, name) for name in type(part).model_fields}
