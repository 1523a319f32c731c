"""Making channels that carry one sound unlike each other, for what is diffuse."""

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

_LENGTH_S = 0.03
_DENSITY_HZ = 1200.0
_DECAY_DB = 40.0


@lru_cache(maxsize=8)
def decorrelators(channels: int, rate_hz: int) -> NDArray[np.float32]:
    """Filters that make copies of one sound unlike each other: velvet noise, of unit energy.

    It dies away by 40 dB in 30 ms; it is the same for the same rate always, and for the first
    channels whatever their number.

    Parameters
    ----------
    channels
        How many.
    rate_hz
        Of the filters.

    Returns
    -------
        Impulse responses, (channels, taps).

    References
    ----------
        B. Alary, A. Politis & V. Valimaki, Velvet-noise decorrelator, DAFx 2017.
    """
    taps, spacing = round(_LENGTH_S * rate_hz), rate_hz / _DENSITY_HZ
    found = np.zeros((channels, taps), dtype=np.float32)
    for channel, row in enumerate(found):
        random = np.random.default_rng(7000 + channel)
        starts = np.arange(0.0, taps - spacing, spacing)
        places = np.round(starts + random.random(len(starts)) * (spacing - 1)).astype(int)
        signs = random.integers(0, 2, len(starts)) * 2.0 - 1.0
        row[places] = signs * 10.0 ** (-_DECAY_DB / 20.0 * places / taps)
        row /= np.sqrt(np.sum(row**2))
    found.flags.writeable = False
    return found
