"""What people type, read for the field that takes it: the field says range, unit and choices."""

import math
import re
from typing import Any, Literal, get_args, get_origin

from pydantic import BaseModel
from pydantic.fields import FieldInfo

from metaphon.core.document.value_paths import range_of_field
from metaphon.core.errors import InputError, OutOfRange
from metaphon.core.spatial.air import SPEED_OF_SOUND_M_S

_UNIT_ENDINGS = {
    "dB": "_db",
    "dBTP": "_dbtp",
    "Hz": "_hz",
    "ms": "_ms",
    "s": "_s",
    "\u00b0": "_deg",
}


def label_of(name: str, field: FieldInfo) -> str:
    """How a field is called in a sentence: its name without its unit."""
    return label_without_unit(name, str(extra_of(field).get("unit", "")))


def label_without_unit(name: str, unit: str) -> str:
    """A name of a field in words, without the unit that it ends with."""
    ending = _UNIT_ENDINGS.get(unit, "")
    return name.removesuffix(ending).removesuffix("_db").replace("_", " ").capitalize()


def extra_of(field: FieldInfo) -> dict[str, Any]:
    """What a field says of itself beside its type: unit, step, scale, role."""
    extra = field.json_schema_extra
    return extra if isinstance(extra, dict) else {}


def read_value(part: BaseModel, name: str, given: Any, rate_hz: int) -> Any:
    """Read a value for a field of a part of a mix.

    Parameters
    ----------
    part : BaseModel
        Whose field it is.
    name : str
        The field.
    given : bool, number, str or None
        A value as it is, or as people type it: "-3,5 dB", "-inf", "48 smp", "on", a word of a
        choice.
    rate_hz : int
        The sample rate of the mix, for delays typed in samples.

    Returns
    -------
    bool, float, int, str or None
        Within the field's range.

    Raises
    ------
    OutOfRange
        For a number outside, or a word that is no choice, naming what may be.
    InputError
        For what cannot be read.
    """
    field = type(part).model_fields[name]
    label = label_of(name, field)
    kind, choices = field.annotation, _choices(field)
    if choices:
        if given not in choices:
            raise OutOfRange(f"{label}: choose from the list.")
        return given
    if kind is bool:
        return _switch(label, given)
    bounds = range_of_field(field)
    if extra_of(field).get("role") == "response":
        raise InputError("Choose a space from the list.")
    if bounds is None:
        return given
    empty = given is None or (isinstance(given, str) and not given.strip())
    if empty and field.annotation not in (float, int):
        return None
    unit = str(extra_of(field).get("unit", ""))
    text = _in_ms(given, rate_hz) if unit == "ms" and isinstance(given, str) else given
    number = read_number(text, label, *bounds, unit)
    return round(number) if kind is int else number


def _choices(field: FieldInfo) -> tuple[Any, ...]:
    return get_args(field.annotation) if get_origin(field.annotation) is Literal else ()


def _switch(label: str, given: Any) -> bool:
    if isinstance(given, bool):
        return given
    if given in ("on", "off"):
        return bool(given == "on")
    raise InputError(f"{label} is on or off.")


def read_number(given: Any, label: str, low: float, high: float, unit: str = "") -> float:
    """Read a number, or "-3,5 dB", "−3.5" or "-inf", within a range.

    Raises InputError in one sentence.
    """
    shown = str(given).strip()[:30]
    if isinstance(given, bool) or given is None:
        raise InputError(f"{label} is a number{f' in {unit}' if unit else ''}.")
    if isinstance(given, str):
        cleaned = given.strip().replace("\u2212", "-").replace(",", ".").removesuffix(unit).strip()
        if re.fullmatch(r"-\s*(inf|∞).*", cleaned, re.IGNORECASE):
            return low
        try:
            given = float(cleaned)
        except ValueError:
            raise InputError(
                f"{label} is a number{f' in {unit}' if unit else ''}, not {shown!r}."
            ) from None
    number = float(given)
    if not math.isfinite(number) or not low <= number <= high:
        raise OutOfRange(
            f"{label} may be {low:g} to {high:g}{f' {unit}' if unit else ''}; {shown} is outside."
        )
    return number


def _in_ms(text: str, rate_hz: int) -> str:
    """A delay typed in samples (smp), centimetres (cm) or metres (m), as a number of ms.

    Any other text as it is.
    """
    match = re.fullmatch(r"\s*([-+−]?[\d.,]+)\s*(smp|samples?|cm|m)\s*", text, re.IGNORECASE)
    if match is None:
        return text
    try:
        number = float(match[1].replace("−", "-").replace(",", "."))
    except ValueError:
        return text
    unit = match[2].lower()
    if unit.startswith("s"):
        return repr(number / rate_hz * 1000.0)
    return repr(number * (1.0 if unit == "m" else 0.01) / SPEED_OF_SOUND_M_S * 1000.0)
