"""What distance does to a sound: its level, its time and the air it passes."""

import numpy as np
from numpy.typing import ArrayLike, NDArray

SPEED_OF_SOUND_M_S = 343.0
_TEMPERATURE_K, _REFERENCE_K, _TRIPLE_K = 293.15, 293.15, 273.16
_PRESSURE_RATIO = 1.0
_HUMIDITY = 50.0
_NEAREST = 0.1  # of the loudspeaker sphere: closer by, level grows no more


def air_absorption_db_per_m(frequencies_hz: ArrayLike) -> NDArray[np.float64]:
    """What a metre of air takes at 20 degrees Celsius, 50 % humidity and 101.325 kPa.

    Parameters
    ----------
    frequencies_hz
        Frequencies of any shape.

    Returns
    -------
        Pure-tone attenuation in dB a metre, of the same shape.

    References
    ----------
        ISO 9613-1:1993, section 6.2.
    """
    f = np.asarray(frequencies_hz, dtype=float)
    saturation = 10.0 ** (-6.8346 * (_TRIPLE_K / _TEMPERATURE_K) ** 1.261 + 4.6151)
    vapour = _HUMIDITY * saturation / _PRESSURE_RATIO
    oxygen = _PRESSURE_RATIO * (24.0 + 4.04e4 * vapour * (0.02 + vapour) / (0.391 + vapour))
    warmth = _TEMPERATURE_K / _REFERENCE_K
    nitrogen = (
        _PRESSURE_RATIO
        * warmth**-0.5
        * (9.0 + 280.0 * vapour * np.exp(-4.170 * (warmth ** (-1 / 3) - 1.0)))
    )
    classical = 1.84e-11 / _PRESSURE_RATIO * warmth**0.5
    by_oxygen = 0.01275 * np.exp(-2239.1 / _TEMPERATURE_K) / (oxygen + f**2 / oxygen)
    by_nitrogen = 0.1068 * np.exp(-3352.0 / _TEMPERATURE_K) / (nitrogen + f**2 / nitrogen)
    result: NDArray[np.float64] = (
        8.686 * f**2 * (classical + warmth**-2.5 * (by_oxygen + by_nitrogen))
    )
    return result


def level_at(distance: ArrayLike, db_per_doubling: float) -> NDArray[np.float64]:
    """The gain of a source at a distance, 1 on the loudspeaker sphere.

    6 dB a doubling is a point in free field.
    """
    away = np.maximum(np.asarray(distance, dtype=float), _NEAREST)
    result: NDArray[np.float64] = 10.0 ** (-db_per_doubling / 20.0 * np.log2(away))
    return result
