"""Two all-passes whose phases differ by a quarter turn, over almost all that is heard."""

from functools import lru_cache

import numpy as np
from scipy.special import ellipj, ellipk

from metaphon.core.dsp.sections import Sections

_LOW_HZ = 20.0
_HIGH_OF_RATE = 0.45
_POLES = 16  # of both together: a quarter turn within 0.2 degrees


@lru_cache(maxsize=8)
def quarter_turn(rate_hz: int) -> tuple[Sections, Sections]:
    """Sections of two all-passes, the second 90 degrees behind the first.

    Parameters
    ----------
    rate_hz
        Of the sound. The turn holds from 20 Hz to 0.45 of it.

    Returns
    -------
        Two times (4, 5). The magnitude of each is 1 at all frequencies.

    References
    ----------
        S. D. Bedrosian, Normalized design of 90 degree phase-difference networks, IRE
        Transactions on Circuit Theory 7(2), 1960: equal ripple by elliptic functions (from memory);
        made digital by the bilinear transform.
    """
    low, high = np.tan(np.pi * np.array([_LOW_HZ / rate_hz, _HIGH_OF_RATE]))
    ratio = low / high
    parameter = 1.0 - ratio * ratio
    along = (4.0 * np.arange(_POLES) + 1.0) * ellipk(parameter) / (2.0 * _POLES)
    sine, cosine, _, _ = ellipj(along, parameter)
    places = sine / cosine
    places *= np.sqrt(low * high) / np.exp(np.mean(np.log(np.abs(places))))
    return _sections(-places[places < 0.0]), _sections(places[places > 0.0])


def _sections(poles: np.ndarray) -> Sections:
    """Pairs of first-order all-passes as sections, from the lowest on."""
    one, other = np.sort(poles).reshape(-1, 2).T
    g = np.sqrt(one * other)
    k = (one + other) / g
    whole = np.ones_like(g)
    return np.stack([g, k, whole, -k, whole], axis=1)
