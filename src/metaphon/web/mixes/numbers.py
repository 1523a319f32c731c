"""Numbers as people type them."""

import math
import re

from metaphon.core.errors import InputError


def parse_number(text: str, what: str, low: float, high: float, unit: str = "") -> float:
    """Read "-3,5 dB", "−3.5" or "-inf" as a number within a range. Raises InputError in one sentence."""
    cleaned = text.strip().replace("−", "-").replace(",", ".").removesuffix(unit).strip()
    if re.fullmatch(r"-\s*(inf|∞).*", cleaned, re.IGNORECASE):
        return low
    try:
        number = float(cleaned)
    except ValueError:
        raise InputError(f"{what} is a number{f' in {unit}' if unit else ''}, not {text.strip()[:30]!r}.") from None
    if not math.isfinite(number) or not low <= number <= high:
        raise InputError(
            f"{what} may be {low:g} to {high:g}{f' {unit}' if unit else ''}; {text.strip()[:30]} is outside."
        )
    return number
