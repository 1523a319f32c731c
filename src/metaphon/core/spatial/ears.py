"""Where a source stands for each ear, and how much later the far one hears it."""

import numpy as np

from metaphon.core.spatial.air import SPEED_OF_SOUND_M_S
from metaphon.core.spatial.directions import Vectors, unit_vectors

EAR_M = 0.0875  # from the middle of the head to an ear
MEASURED_M = 1.4  # how far away the measured loudspeakers were (the shipped head)


def for_each_ear(azimuth_deg: float, distance_m: float) -> tuple[Vectors, tuple[float, float]]:
    """The direction in which each ear looks at a source on its level, and how loud it is there.

    Parameters
    ----------
    azimuth_deg, distance_m
        Of the source from the middle of the head; left is positive.

    Returns
    -------
        Where the line from the ear through the source meets the sphere of the measurement, unit
        vectors (2, 3), left ear first, and amplitudes, 1 at MEASURED_M.

    References
    ----------
        D. Romblom & B. Cook, Near-field compensation for HRTF processing, AES convention 125, 2008
        (from memory): level by distance to the ear, parallax by the sphere.
    """
    source = unit_vectors(azimuth_deg) * distance_m
    ears = np.array([[-EAR_M, 0.0, 0.0], [EAR_M, 0.0, 0.0]])
    ways = source - ears
    lengths = np.linalg.norm(ways, axis=1)
    ways = ways / lengths[:, None]
    along = np.sum(ears * ways, axis=1)
    reach = -along + np.sqrt(along**2 + MEASURED_M**2 - EAR_M**2)
    left, right = reach / lengths
    return (ears + ways * reach[:, None]) / MEASURED_M, (float(left), float(right))


def ear_delay_s(azimuth_deg: float) -> float:
    """How much earlier the left ear hears a source that is far away, in seconds.

    Source: R. S. Woodworth & H. Schlosberg, Experimental psychology, 1954: r / c (a + sin a) for a
    source at an angle a to the side.
    """
    aside = np.arcsin(np.clip(np.sin(np.radians(azimuth_deg)), -1.0, 1.0))
    return float(EAR_M / SPEED_OF_SOUND_M_S * (aside + np.sin(aside)))
