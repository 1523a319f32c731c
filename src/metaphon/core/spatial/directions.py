"""Directions as ITU-R BS.2076 writes them.

Azimuth positive to the left, elevation positive upwards.
"""

import numpy as np
from numpy.typing import ArrayLike, NDArray

Vectors = NDArray[np.float64]


def unit_vectors(azimuth_deg: ArrayLike, elevation_deg: ArrayLike = 0.0) -> Vectors:
    """Turn angles into unit vectors, x right, y front, z up.

    Parameters
    ----------
    azimuth_deg, elevation_deg
        Angles that broadcast against each other, in degrees; left and up are positive.

    Returns
    -------
        Vectors, the shape of the angles plus (3).

    References
    ----------
        ITU-R BS.2076-2, section 8 (coordinate conventions).

    Examples
    --------
    >>> unit_vectors(90.0).round(4).tolist()  # straight left
    [-1.0, 0.0, 0.0]
    """
    azimuth, elevation = np.broadcast_arrays(np.radians(azimuth_deg), np.radians(elevation_deg))
    return np.stack(
        [
            -np.sin(azimuth) * np.cos(elevation),
            np.cos(azimuth) * np.cos(elevation),
            np.sin(elevation),
        ],
        axis=-1,
    )


def wrap_azimuth(azimuth_deg: ArrayLike) -> NDArray[np.float64]:
    """Bring any angle into -180 (excluded) to 180 degrees."""
    return 180.0 - np.mod(180.0 - np.asarray(azimuth_deg, dtype=float), 360.0)


def angles_of(vectors: Vectors) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Azimuth and elevation in degrees of vectors (..., 3) of any length but 0."""
    x, y, z = np.moveaxis(vectors, -1, 0)
    return np.degrees(np.arctan2(-x, y)), np.degrees(np.arctan2(z, np.hypot(x, y)))
