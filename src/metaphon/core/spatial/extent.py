"""The size of a source.

The directions or places its sound comes from, each with an equal part of its power.

Source: multiple-direction panning, Pulkki 1999; how size grows as a source comes near: ITU-R
BS.2127-1, section 7.3.8 (from memory).
"""

import numpy as np
from numpy.typing import ArrayLike, NDArray

from metaphon.core.spatial.directions import Vectors, unit_vectors

_LEAST_SIZE = 0.2  # what a point is taken for when it comes near


def _disc() -> NDArray[np.float64]:
    """Places in the unit disc, (25, 2), of equal areas and the same from left and right.

    A middle and three rings.
    """
    found = [(0.0, 0.0)]
    for count, radius in ((4, 0.35), (8, 0.68), (12, 1.0)):
        turn = (np.arange(count) + 0.5) * 2.0 * np.pi / count
        found += zip(radius * np.cos(turn), radius * np.sin(turn), strict=True)
    return np.array(found)


_DISC = _disc()
_BOX = np.stack(np.meshgrid(*[np.linspace(-1.0, 1.0, 3)] * 3, indexing="ij"), axis=-1).reshape(
    -1, 3
)


def around(
    azimuth_deg: ArrayLike,
    elevation_deg: ArrayLike,
    width_deg: ArrayLike,
    height_deg: ArrayLike,
    many: bool = True,
) -> Vectors:
    """Directions that fill an ellipse round a direction.

    Parameters
    ----------
    azimuth_deg, elevation_deg
        Its middle, in degrees.
    width_deg, height_deg
        Whole angles, 0 to 360.
    many
        Whether there is more than the middle.

    Returns
    -------
        Unit vectors, (..., count, 3), count 25 or 1.
    """
    azimuth, elevation, width, height = np.broadcast_arrays(
        *(np.asarray(v, dtype=float) for v in (azimuth_deg, elevation_deg, width_deg, height_deg))
    )
    middle = unit_vectors(azimuth, elevation)
    if not many:
        return middle[..., None, :]
    right = unit_vectors(azimuth - 90.0, 0.0)
    up = np.cross(right, middle)
    aside = np.radians(width)[..., None] / 2.0 * _DISC[:, 0]
    above = np.radians(height)[..., None] / 2.0 * _DISC[:, 1]
    away = np.hypot(aside, above)
    part = np.sinc(away / np.pi)[..., None]  # sin(away) / away
    result: Vectors = (
        np.cos(away)[..., None] * middle[..., None, :]
        + part * aside[..., None] * right[..., None, :]
        + part * above[..., None] * up[..., None, :]
    )
    return result


def inside(positions: ArrayLike, sizes: ArrayLike, many: bool = True) -> NDArray[np.float64]:
    """Places that fill a box in the room, (..., count, 3), held within its walls.

    `sizes` (..., 3) are 0 to 2; without `many` there is only the middle.
    """
    middle, size = np.broadcast_arrays(
        np.asarray(positions, dtype=float), np.asarray(sizes, dtype=float)
    )
    if not many:
        return middle[..., None, :]
    result: NDArray[np.float64] = np.clip(
        middle[..., None, :] + _BOX * size[..., None, :] / 2.0, -1.0, 1.0
    )
    return result


def seen_from_within(extent_deg: ArrayLike, distance: ArrayLike) -> NDArray[np.float64]:
    """How wide a source of an extent looks at a distance.

    As it is at 1, from all round at 0, never less than a point.
    """
    extent, away = np.broadcast_arrays(
        np.asarray(extent_deg, dtype=float), np.asarray(distance, dtype=float)
    )
    size = _LEAST_SIZE + (1.0 - _LEAST_SIZE) * extent / 360.0
    at_one = 4.0 * np.degrees(np.arctan2(size, 1.0))
    here = 4.0 * np.degrees(np.arctan2(size, np.maximum(away, 0.0)))
    small = here / at_one * extent
    large = extent + (here - at_one) / np.maximum(360.0 - at_one, 1e-9) * (360.0 - extent)
    result: NDArray[np.float64] = np.clip(np.where(here < at_one, small, large), 0.0, 360.0)
    return result
