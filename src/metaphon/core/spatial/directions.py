"""Directions as ITU-R BS.2076 writes them: azimuth positive to the left, elevation positive upwards."""

import numpy as np
from numpy.typing import ArrayLike, NDArray

Vectors = NDArray[np.float64]


def unit_vectors(azimuth_deg: ArrayLike, elevation_deg: ArrayLike = 0.0) -> Vectors:
    """Turn angles into unit vectors, x right, y front, z up.

    Angles broadcast against each other; the result has their shape plus a last axis of 3.
    Source: ITU-R BS.2076-2, section 8 (coordinate conventions).
    """
    azimuth, elevation = np.broadcast_arrays(np.radians(azimuth_deg), np.radians(elevation_deg))
    return np.stack(
        [-np.sin(azimuth) * np.cos(elevation), np.cos(azimuth) * np.cos(elevation), np.sin(elevation)],
        axis=-1,
    )


def wrap_azimuth(azimuth_deg: ArrayLike) -> NDArray[np.float64]:
    """Bring any angle into -180 (excluded) to 180 degrees."""
    return 180.0 - np.mod(180.0 - np.asarray(azimuth_deg, dtype=float), 360.0)


def ring(azimuth_deg: float, elevation_deg: float, extent_deg: float, count: int = 8) -> Vectors:
    """Give a direction and, where it has extent, a circle of directions round it.

    The circle lies at half of extent_deg (0 to 180) from the middle. Result: (1 or count + 1, 3).
    Source: multiple-direction panning, Pulkki 1999.
    """
    middle = unit_vectors(azimuth_deg, elevation_deg)
    if extent_deg <= 0.0:
        return middle[None, :]
    right = unit_vectors(azimuth_deg - 90.0, 0.0)
    up = np.cross(right, middle)
    turn = np.arange(count)[:, None] * (2.0 * np.pi / count)
    half = np.radians(min(extent_deg, 180.0) / 2.0)
    circle = np.cos(half) * middle + np.sin(half) * (np.cos(turn) * right + np.sin(turn) * up)
    return np.vstack([middle[None, :], circle])
