"""Reading what pages and scripts send: one parser a kind, for anything at all."""

import json
import re
from typing import Any

from metaphon.core.errors import InputError

UNREADABLE = "The page sent something that cannot be read; load it again."
_NUL = "\\u0000"  # as JSON writes it; one that stands there itself is no JSON
_CONTROL = re.compile(r"[\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x9f]")
_DIGITS = 18  # of a number that a row can have


def data_in(text: str | bytes, refused: str = UNREADABLE) -> Any:
    """What JSON text says. Raises InputError with the sentence given where it is none.

    A NUL in it is refused too, since no database keeps one.
    """
    try:
        plain = text.decode() if isinstance(text, bytes) else text
        if _NUL not in plain:
            return json.loads(plain)
    except (ValueError, RecursionError):
        pass
    raise InputError(refused)


def object_in(text: str) -> dict[str, Any]:
    """What JSON text of an object says. Raises InputError where it is none."""
    return as_object(data_in(text))


def as_object(data: Any) -> dict[str, Any]:
    """Decoded JSON that must be an object. Raises InputError where it is none."""
    if not isinstance(data, dict):
        raise InputError(UNREADABLE)
    return data


def number_in(text: str) -> int | None:
    """A whole number from 0 on, or None for whatever is none."""
    return int(text) if text.isascii() and text.isdecimal() and len(text) <= _DIGITS else None


def holds_control(texts: Any) -> bool:
    """Whether one of some texts has a control character in it, but for tabs and ends of lines."""
    return any(_CONTROL.search(text) for text in texts)
