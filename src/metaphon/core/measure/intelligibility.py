"""How much of speech can be understood over what else is heard: the speech intelligibility index.

Source: ANSI S3.5-1997, the procedure by thirds of octaves with its importance of average speech
(table 3), figures from memory.
"""

import numpy as np
from numpy.typing import NDArray

from metaphon.core.measure.thirds import MIDDLES_HZ

BANDS_HZ = MIDDLES_HZ[8:26]  # 160 Hz to 8 kHz
# what each band adds to being understood, and the spectrum of normal speech in dB SPL a hertz
IMPORTANCE = np.array(
    (
        *(0.0083, 0.0095, 0.0150, 0.0289, 0.0440, 0.0578, 0.0653, 0.0711, 0.0818),
        *(0.0844, 0.0882, 0.0898, 0.0868, 0.0844, 0.0771, 0.0527, 0.0364, 0.0185),
    )
)
NORMAL_SPEECH_DB = np.array(
    (
        *(32.41, 34.48, 34.75, 33.98, 34.59, 34.27, 32.06, 28.30, 25.01),
        *(23.00, 20.15, 17.32, 13.18, 11.55, 9.33, 5.31, 2.59, 1.13),
    )
)
# the noise that hearing has of itself
_INTERNAL_DB = np.array(
    (
        *(0.6, -1.7, -3.9, -6.1, -8.2, -9.7, -10.8, -11.9, -12.5),
        *(-13.5, -15.4, -17.7, -21.2, -24.2, -25.9, -23.6, -15.8, -7.1),
    )
)
_NONE_DB = -100.0
GOOD, POOR = 0.75, 0.45  # ANSI S3.5, annex A: what good communication has, and what poor has not


def spectrum_levels_db(band_power: NDArray[np.float64]) -> NDArray[np.float64]:
    """Powers in BANDS_HZ as levels a hertz, in dB."""
    width_hz = BANDS_HZ * (10.0**0.05 - 10.0**-0.05)
    levels: NDArray[np.float64] = 10.0 * np.log10(np.maximum(band_power, 1e-30) / width_hz)
    return np.maximum(levels, _NONE_DB)


def speech_intelligibility_index(
    speech_db: NDArray[np.float64], noise_db: NDArray[np.float64]
) -> float:
    """How much of the audible cues of speech get through, 0 to 1.

    Parameters
    ----------
    speech_db, noise_db
        Levels in dB SPL a hertz at the listener, one for each of BANDS_HZ.
    """
    own = speech_db - 24.0  # speech masks itself upwards
    masking = np.maximum(noise_db, own)
    slope = -80.0 + 0.6 * (masking + 10.0 * np.log10(BANDS_HZ) - 6.353)
    disturbance = masking.copy()
    for i in range(1, len(BANDS_HZ)):
        steep = 3.32 * slope[:i] * np.log10(0.89 * BANDS_HZ[i] / BANDS_HZ[:i])
        spread = np.sum(10.0 ** (0.1 * (masking[:i] + steep)))
        disturbance[i] = 10.0 * np.log10(10.0 ** (0.1 * noise_db[i]) + spread)
    disturbance = np.maximum(disturbance, _INTERNAL_DB)
    distorted = np.minimum(1.0 - (speech_db - NORMAL_SPEECH_DB - 10.0) / 160.0, 1.0)
    audible = np.clip((speech_db - disturbance + 15.0) / 30.0, 0.0, 1.0)
    return float(np.clip(np.sum(IMPORTANCE * distorted * audible), 0.0, 1.0))
