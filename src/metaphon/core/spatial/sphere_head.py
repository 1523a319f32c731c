"""A spherical head of any radius, where no measured one will do."""

from functools import lru_cache

import numpy as np
from scipy.fft import irfft, rfftfreq

from metaphon.core.spatial.air import SPEED_OF_SOUND_M_S
from metaphon.core.spatial.directions import unit_vectors
from metaphon.core.spatial.head import Head

_LENGTH_S = 256 / 48000.0
_LEAD_S = 0.0012
_SHADOW_FLOOR = 0.1
_DARKEST_DEG = 150.0


@lru_cache(maxsize=8)
def spherical_head(radius_cm: float, rate_hz: int) -> Head:
    """A sphere with ears at its sides: head shadow and delay without a measurement.

    Shadow: one pole, one zero, darkest at 150 degrees from the ear; delay round the sphere after
    Woodworth.

    Parameters
    ----------
    radius_cm
        Of the head.
    rate_hz
        Of the responses.

    References
    ----------
        C. P. Brown & R. O. Duda, A structural model for binaural sound synthesis, IEEE Trans.
        Speech and Audio Processing 6(5), 1998, equations 3 to 5.
    """
    elevation = np.concatenate([np.repeat(np.arange(-80, 81, 10), 36), [-90, 90]])
    azimuth = np.concatenate([np.tile(np.arange(-180, 180, 10), 17), [0, 0]])
    vectors = unit_vectors(azimuth, elevation)
    radius = radius_cm / 100.0
    taps = 2 * round(_LENGTH_S * rate_hz / 2.0)
    frequencies = rfftfreq(taps, 1.0 / rate_hz)
    turn = 2j * np.pi * frequencies
    corner = SPEED_OF_SOUND_M_S / radius
    ears = []
    for side in (-1.0, 1.0):  # x points to the right
        angle = np.arccos(np.clip(vectors[:, 0] * side, -1.0, 1.0))
        bent = np.cos(angle / np.radians(_DARKEST_DEG) * np.pi)
        alpha = (1.0 + _SHADOW_FLOOR / 2) + (1.0 - _SHADOW_FLOOR / 2) * bent
        round_head = np.where(angle < np.pi / 2, -np.cos(angle), angle - np.pi / 2)
        delay = _LEAD_S + radius / SPEED_OF_SOUND_M_S * round_head
        shadow = (1.0 + alpha[:, None] * turn / (2 * corner)) / (1.0 + turn / (2 * corner))
        ears.append(irfft(shadow * np.exp(-turn * delay[:, None]), taps))
    return Head(azimuth, elevation, np.stack(ears, axis=1), rate_hz, rate_hz)
