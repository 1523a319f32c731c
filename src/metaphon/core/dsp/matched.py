"""Filters of second order whose magnitude follows the analogue one up to the top of hearing.

The bilinear transform squeezes everything above into the half of the rate. Here the poles are those
of the analogue filter, and the zeros make its magnitude true at three frequencies.

Source: M. Vicanek, "Matched second order digital filters" (2016); the frequencies that are matched
are our own choice, by trial over the whole range (see `docs/standards.md`).
"""

import math
from functools import lru_cache

from metaphon.core.dsp.sections import Sections, as_biquads, as_sections

_TOP = 2.5  # where the highest match lies, in radians a sample: 19.1 kHz of 48
_MIDDLE = 1.6  # above this the middle match stays behind the filter's own frequency
_REACH = 2.0  # unless the filter is narrow: so many half widths at most
_LOWEST = 1e-4  # in radians a sample; below it nothing is heard

Quadratic = tuple[float, float, float]  # of s^2, s and 1, with s = j at the filter's own frequency


@lru_cache(8192)
def matched(numerator: Quadratic, denominator: Quadratic, turn: float) -> Sections:
    """A digital section with the magnitude of an analogue filter.

    Parameters
    ----------
    numerator, denominator
        Of the analogue filter; the denominator's roots, and for a filter that is to be turned over
        (`inverse`) the numerator's too, lie left of the axis.
    turn
        The filter's own frequency in radians a sample, above 0.

    Returns
    -------
        (1, 5).
    """
    turn = max(turn, _LOWEST)
    own = turn * math.sqrt(denominator[2] / denominator[0])
    half = denominator[1] / (2.0 * math.sqrt(denominator[0] * denominator[2]))  # 1 / (2 Q)
    apart = math.sqrt(abs(1.0 - half * half)) * own
    around = math.cos(apart) if half <= 1.0 else math.cosh(apart)
    a1, a2 = -2.0 * math.exp(-half * own) * around, math.exp(-2.0 * half * own)
    below = ((1.0 + a1 + a2) ** 2, (1.0 - a1 + a2) ** 2, -4.0 * a2)
    middle = min(turn, max(_MIDDLE, turn * (1.0 - 2.0 * _REACH * half)), 0.96 * _TOP)
    low = below[0] * (numerator[2] / denominator[2]) ** 2
    rest = []
    for where in (middle, _TOP):
        one = math.sin(where / 2.0) ** 2
        parts = (1.0 - one, one, 4.0 * one * (1.0 - one))
        power = _power(numerator, where / turn) / _power(denominator, where / turn)
        wanted = power * sum(b * p for b, p in zip(below, parts, strict=True))
        rest.append((parts[1], parts[2], wanted - low * parts[0]))
    (p, q, u), (r, s, v) = rest
    high = max((u * s - q * v) / (p * s - q * r), 0.0)
    both = (p * v - r * u) / (p * s - q * r)
    mean = 0.5 * (math.sqrt(low) + math.sqrt(high))
    b0 = 0.5 * (mean + math.sqrt(max(mean * mean + both, 0.0)))
    b1 = 0.5 * (math.sqrt(low) - math.sqrt(high))
    return as_sections((b0, b1, -both / (4.0 * b0)), (1.0, a1, a2))


def inverse(section: Sections) -> Sections:
    """What takes back what a section with all its zeros within the circle does."""
    [row] = as_biquads(section)
    return as_sections(row[3:], row[:3])


def _power(quadratic: Quadratic, frequency: float) -> float:
    two, one, none = quadratic
    return float((none - two * frequency**2) ** 2 + (one * frequency) ** 2)
