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


_SOUND_CM_PER_MS = 34.3  # 343 m/s, air at 20 degrees Celsius


def as_ms(text: str, rate_hz: int) -> str:
    """A delay typed in samples (smp), centimetres (cm) or metres (m), as a number of ms; any other text as it is."""
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
    return repr(number * (100.0 if unit == "m" else 1.0) / _SOUND_CM_PER_MS)
