"""The size of a source.

The directions or places its sound comes from, each with an equal part of its power.

Source: multiple-direction panning, Pulkki 1999; how size grows as a source comes near: ITU-R
BS.2127-1, section 7.3.8 (from memory).
"""

from functools import lru_cache

import numpy as np
from numpy.typing import ArrayLike, NDArray

from metaphon.core.spatial.directions import Vectors, unit_vectors

_LEAST_SIZE = 0.2  # what a point is taken for when it comes near


COARSE, FINE = (8, 9, 8), (11, 12, 13, 12, 11)  # points in each row of an area
_GRID = np.linspace(0.0, 1.0, 33)  # where the width of an area is looked at, from its middle up
Rows = tuple[int, ...]


@lru_cache
def _across(rows: Rows) -> NDArray[np.float64]:
    """How far aside each point is, from -1 to 1: evenly, and the same left and right."""
    return np.concatenate([(2.0 * np.arange(n) + 1.0) / n - 1.0 for n in rows])


@lru_cache
def _parts(rows: Rows) -> NDArray[np.float64]:
    """What part of the area lies below the middle of each row, less what lies above: -1 to 1."""
    edges = np.cumsum((0, *rows)) / sum(rows)
    return edges[1:] + edges[:-1] - 1.0


_BOX = np.stack(np.meshgrid(*[np.linspace(-1.0, 1.0, 3)] * 3, indexing="ij"), axis=-1).reshape(
    -1, 3
)


def around(
    azimuth_deg: ArrayLike,
    elevation_deg: ArrayLike,
    width_deg: ArrayLike,
    height_deg: ArrayLike,
    rows: Rows = COARSE,
) -> Vectors:
    """Directions that fill an area round a direction evenly.

    Where it is as high as wide the area is a cap of the sphere; else the cap of the lesser size,
    drawn along the greater one. So 360 degrees by 0 is a ring, and 360 by 360 the whole sphere.

    Parameters
    ----------
    azimuth_deg, elevation_deg
        Its middle, in degrees.
    width_deg, height_deg
        Whole angles, 0 to 360.
    rows
        How many points there are in each row of the area; none for its middle alone.

    Returns
    -------
        Unit vectors, (..., count, 3).

    References
    ----------
        The shape: ITU-R BS.2127-1, section 7.3.8 (from memory); its points are those of equal parts
        of its area.
    """
    azimuth, elevation, width, height = np.broadcast_arrays(
        *(np.asarray(v, dtype=float) for v in (azimuth_deg, elevation_deg, width_deg, height_deg))
    )
    middle = unit_vectors(azimuth, elevation)
    if not rows:
        return middle[..., None, :]
    right = unit_vectors(azimuth - 90.0, 0.0)
    up = np.cross(right, middle)
    upright = (height > width)[..., None]
    along = np.where(upright, up, right)[..., None, :]
    over = np.where(upright, -right, up)[..., None, :]
    aside, above = _spread(np.maximum(width, height), np.minimum(width, height), rows)
    level = np.cos(above)
    result: Vectors = (
        (level * np.cos(aside))[..., None] * middle[..., None, :]
        + (level * np.sin(aside))[..., None] * along
        + np.sin(above)[..., None] * over
    )
    return result


def _spread(
    long_deg: NDArray[np.float64], short_deg: NDArray[np.float64], rows: Rows
) -> tuple[Vectors, Vectors]:
    """How far along and over the points of an area are, in radians, (..., points) each."""
    half = np.radians(short_deg)[..., None] / 2.0
    more = np.radians(long_deg - short_deg)[..., None] / 2.0
    top = np.sin(np.minimum(half, np.pi / 2.0))
    widths = _half_width(top * _GRID, half, more)
    total = np.cumsum((widths[..., 1:] + widths[..., :-1]) / 2.0, axis=-1)
    total = np.concatenate([np.zeros_like(total[..., :1]), total], axis=-1)
    parts = _parts(rows)
    wanted = np.abs(parts) * total[..., -1:]
    after = np.clip(np.sum(total[..., None, :] < wanted[..., None], axis=-1), 1, len(_GRID) - 1)
    one, other = (np.take_along_axis(total, n, -1) for n in (after - 1, after))
    way = after - 1 + (wanted - one) / np.maximum(other - one, 1e-12)
    heights = np.repeat(np.sign(parts) * top * way / (len(_GRID) - 1), rows, axis=-1)
    return (
        _half_width(heights, half, more) * _across(rows),
        np.arcsin(np.clip(heights, -1.0, 1.0)),
    )


def _half_width(
    height: NDArray[np.float64], half: NDArray[np.float64], more: NDArray[np.float64]
) -> NDArray[np.float64]:
    """How far aside an area reaches at a height (a sine), in radians."""
    level = np.sqrt(np.maximum(1.0 - height**2, 1e-12))
    cap = np.arccos(np.clip(np.cos(half) / level, -1.0, 1.0))
    return np.minimum(cap + more, np.pi)


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
