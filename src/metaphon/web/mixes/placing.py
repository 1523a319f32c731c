"""A placement row said as angles, whatever form it uses; the core does the conversion."""

from collections.abc import Iterable

import numpy as np

from metaphon.core.errors import InputError
from metaphon.core.scene.conversion import FORMS, Coordinates, in_form, positions, said_in_own_form
from metaphon.core.scene.mix import Placement as Said
from metaphon.core.spatial.layouts import LAYOUTS
from metaphon.web.mixes.models import Placement, Strip

_FIELDS = tuple(Said.model_fields)


def said_by(row: Placement) -> Said:
    """A placement row as the core takes it."""
    return Said.model_validate({name: getattr(row, name) for name in _FIELDS})


def said_as(row: Placement, form: Coordinates) -> dict[str, float]:
    """The position of a row in a form (`sphere` or `cube`) by the names of its fields."""
    said = said_by(row)
    values = in_form(positions(said, {}, np.zeros(1)), said.coordinates, form, said.reference)[:, 0]
    return {name: round(float(value), 4) for name, value in zip(FORMS[form], values, strict=True)}


def set_as(row: Placement, form: Coordinates, **values: float) -> None:
    """Set fields of a form; where the row uses the other one, that follows. Raises InputError where it is locked."""
    if row.locked:
        raise InputError(f"{row.strip.name} is locked; unlock it first.")
    if row.coordinates != form:
        values = {name: round(value, 4) for name, value in said_in_own_form(said_by(row), form, values).items()}
    Placement.objects.filter(pk=row.pk).update(**values)


def place_as(strips: Iterable[Strip], text: str) -> None:
    """Make strips a bed (named by its layout), object, scene or none. Raises InputError for anything else."""
    Placement.objects.filter(strip__in=list(strips)).update(**_mode(text))


def placed_as(text: str) -> str:
    """How the history names it; raises InputError as `place_as` does."""
    return f"{LAYOUTS[text].everyday} bed" if text in LAYOUTS else str(_mode(text)["mode"])


def _mode(text: str) -> dict[str, str]:
    mode = "bed" if text in LAYOUTS else text
    if mode not in Placement.Mode.values:
        raise InputError("Place a track as bed, object, scene or none.")
    return {"mode": mode, **({"layout": text} if text in LAYOUTS else {})}
