"""Making channels that carry one sound unlike each other, for what is diffuse or extended."""

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft, rfft

_LENGTH_S = 0.03
_LATEST_S = 0.02
_BANDS_A_DECADE = 24
_ROUNDS = 40


def decorrelators(channels: int, rate_hz: int) -> NDArray[np.float32]:
    """Filters that make copies of one sound unlike each other and leave its colour.

    Every band is held back by a time of its own, up to 20 ms, by chance but the same for the same
    rate always, and for the first channels whatever their number. Magnitude is flat within half a
    decibel.

    Parameters
    ----------
    channels
        How many.
    rate_hz
        Of the filters.

    Returns
    -------
        Impulse responses of unit energy, (channels, taps).

    References
    ----------
        M. Boueri & C. Kyriakakis, Audio signal decorrelation based on a critical band approach,
        AES convention 117, 2004 (delays by bands); the response is then cut to its length and
        made flat in turn (projection on both sets).
    """
    return np.stack([_decorrelator(channel, rate_hz) for channel in range(channels)])


@lru_cache(maxsize=256)
def _decorrelator(channel: int, rate_hz: int) -> NDArray[np.float32]:
    taps = round(_LENGTH_S * rate_hz)
    size = 1 << (2 * taps - 1).bit_length()
    hertz = np.fft.rfftfreq(size, 1.0 / rate_hz)
    band = np.log10(np.maximum(hertz, 20.0) / 20.0) * _BANDS_A_DECADE
    random = np.random.default_rng(7000 + channel)
    delays = random.uniform(0.05, 1.0, int(band.max()) + 2) * _LATEST_S
    held = np.interp(band, np.arange(len(delays)), delays)
    spectrum = np.exp(-2j * np.pi * np.cumsum(held) * (hertz[1] - hertz[0]))
    for _ in range(_ROUNDS):
        response = irfft(spectrum, size)
        response[taps:] = 0.0
        spectrum = rfft(response)
        spectrum /= np.maximum(np.abs(spectrum), 1e-9)
    response = irfft(spectrum, size)[:taps]
    result: NDArray[np.float32] = (response / np.sqrt(np.sum(response**2))).astype(np.float32)
    return result
