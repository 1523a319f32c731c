"""What a head tells left from right by: how much earlier and louder one ear hears."""

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft, rfft, rfftfreq

from metaphon.core.spatial.directions import unit_vectors
from metaphon.core.spatial.head import Head

_SIZE = 2048
_FINER = 16
_BY_TIME_HZ = (100.0, 1500.0)  # where the ear follows phase
_BY_LEVEL_HZ = (1500.0, 12000.0)


class Interaural(NamedTuple):
    """Differences between the ears for sources at some azimuths; positive where the left leads.

    All (azimuths): `time_ms`, and `level_db` where the head casts a shadow.
    """

    time_ms: NDArray[np.float64]
    level_db: NDArray[np.float64]


def interaural(
    head: Head, azimuth_deg: NDArray[np.float64], elevation_deg: float = 0.0
) -> Interaural:
    """The differences between the ears of a head.

    Parameters
    ----------
    head
        Whose ears.
    azimuth_deg
        Of the sources, (azimuths).
    elevation_deg
        Of all of them.

    Returns
    -------
        The time by the highest cross-correlation from 100 to 1500 Hz, the level from 1.5 to 12 kHz.

    References
    ----------
        J. Blauert, Spatial hearing, 1997, section 2.4 (from memory).
    """
    vectors = unit_vectors(azimuth_deg, np.full_like(azimuth_deg, elevation_deg))
    left, right = rfft(head.responses(vectors).astype(np.float64), _SIZE).swapaxes(0, 1)
    hertz = rfftfreq(_SIZE, 1.0 / head.rate_hz)
    phase = (hertz >= _BY_TIME_HZ[0]) & (hertz <= _BY_TIME_HZ[1])
    alike = irfft(right * np.conj(left) * phase, _SIZE * _FINER)
    lag = np.argmax(alike, axis=1)
    lag = np.where(lag > _SIZE * _FINER // 2, lag - _SIZE * _FINER, lag)
    shade = (hertz >= _BY_LEVEL_HZ[0]) & (hertz <= _BY_LEVEL_HZ[1])
    power = [np.sum(np.abs(ear[:, shade]) ** 2, axis=1) for ear in (left, right)]
    return Interaural(lag / _FINER / head.rate_hz * 1000.0, 10.0 * np.log10(power[0] / power[1]))
