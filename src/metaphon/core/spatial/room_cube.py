"""One position said in two ways.

As angles and distance round the listener, or as a place in a cube-shaped room.

The cube reaches from -1 to 1: x to the right, y to the front, z up. The loudspeakers of a reference
layout stand at its corners and edges, so what stands on one of them in one way does so in the other
too. Source: ITU-R BS.2127-1, section 10.1 (conversion of positions and extents; from memory). All
functions take numbers or arrays that broadcast.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

OUT_IN_ROOM_DEG = 90.0  # how far aside the middle of a wall is from the front

Array = NDArray[np.float64]

_HIGH_DEG = 30.0  # elevation of the upper loudspeakers, at the upper edge of the cube
_HIGH_IN_CUBE_DEG = 45.0


@dataclass(frozen=True)
class Reference:
    """The layout whose loudspeakers stand in the corners of the room. One row a reference."""

    name: str
    title: str
    front_deg: float
    rear_deg: float


REFERENCES: dict[str, Reference] = {
    row.name: row
    for row in (
        Reference("4+5+0", "5.1.4, corners at 30° and 110°", 30.0, 110.0),  # as in the standard
        Reference("4+7+0", "7.1.4, corners at 30° and 135°", 30.0, 135.0),
        Reference("9+10+3", "22.2, corners at 60° and 135°", 60.0, 135.0),
    )
}
STANDARD = REFERENCES["4+5+0"]


def _corners(reference: Reference) -> Array:
    """(azimuth in degrees, x, y) of what marks the sectors, going round to the right."""
    front, rear = reference.front_deg, reference.rear_deg
    return np.array(
        [
            (0.0, 0.0, 1.0),
            (-front, 1.0, 1.0),
            (-rear, 1.0, -1.0),
            (rear, -1.0, -1.0),
            (front, -1.0, 1.0),
        ]
    )


def to_cube(
    azimuth_deg: ArrayLike,
    elevation_deg: ArrayLike,
    distance: ArrayLike = 1.0,
    reference: Reference = STANDARD,
) -> tuple[Array, Array, Array]:
    """Angles and distance as a place in the cube.

    Parameters
    ----------
    azimuth_deg, elevation_deg
        Of any shape, positive to the left and up.
    distance
        1 on the loudspeaker sphere.
    reference
        The angles at which the corners of the cube lie.

    Returns
    -------
        x right, y front, z up, each -1 to 1 within the sphere.
    """
    azimuth, elevation, away = np.broadcast_arrays(
        *(np.asarray(v, dtype=float) for v in (azimuth_deg, elevation_deg, distance))
    )
    high = np.abs(elevation) > _HIGH_DEG
    share = (np.abs(elevation) - _HIGH_DEG) / (90.0 - _HIGH_DEG)
    steep = _HIGH_IN_CUBE_DEG + (90.0 - _HIGH_IN_CUBE_DEG) * share
    z = (
        np.where(
            high, np.sign(elevation), np.tan(np.radians(_HIGH_IN_CUBE_DEG * elevation / _HIGH_DEG))
        )
        * away
    )
    level = away * np.where(high, np.tan(np.radians(90.0 - np.maximum(steep, 1.0))), 1.0)
    x, y = np.zeros_like(azimuth), np.zeros_like(azimuth)
    corners = _corners(reference)
    for left, right in zip(corners, np.roll(corners, -1, axis=0), strict=True):
        here = _within(right[0], left[0], azimuth)
        part = _along(left[0], right[0], azimuth)
        x = np.where(here, left[1] + (right[1] - left[1]) * part, x)
        y = np.where(here, left[2] + (right[2] - left[2]) * part, y)
    return level * x, level * y, z


def to_sphere(
    x: ArrayLike, y: ArrayLike, z: ArrayLike, reference: Reference = STANDARD
) -> tuple[Array, Array, Array]:
    """A place in the cube as angles and distance; the middle is straight ahead at distance 0.

    Parameters
    ----------
    x, y, z
        Of any shape; right, front, up, each -1 to 1.
    reference
        The angles at which the corners of the cube lie.

    Returns
    -------
        Azimuth -180 to 180 and elevation -90 to 90 in degrees, and distance, 1 on the loudspeaker
        sphere.
    """
    x, y, z = np.broadcast_arrays(*(np.asarray(v, dtype=float) for v in (x, y, z)))
    turn = -np.degrees(np.arctan2(x, y))
    azimuth, level = np.zeros_like(x), np.zeros_like(x)
    corners = _corners(reference)
    for left, right in zip(corners, np.roll(corners, -1, axis=0), strict=True):
        edges = -np.degrees(np.arctan2([left[1], right[1]], [left[2], right[2]]))
        here = _within(edges[1], edges[0], turn)
        wide = np.linalg.inv(np.array([left[1:], right[1:]])).T @ np.stack([x.ravel(), y.ravel()])
        wide = wide.reshape(2, *x.shape)
        total = wide.sum(axis=0)
        part = wide[1] / np.where(np.abs(total) > 1e-12, total, 1.0)
        azimuth = np.where(here, _azimuth(left[0], right[0], part), azimuth)
        level = np.where(here, total, level)
    steep = np.degrees(np.arctan2(z, level))
    high = np.abs(steep) > _HIGH_IN_CUBE_DEG
    share = (np.abs(steep) - _HIGH_IN_CUBE_DEG) / (90.0 - _HIGH_IN_CUBE_DEG)
    elevation = np.where(
        high,
        np.sign(z) * (_HIGH_DEG + (90.0 - _HIGH_DEG) * share),
        steep * _HIGH_DEG / _HIGH_IN_CUBE_DEG,
    )
    distance = np.where(high, np.abs(z), level)
    straight = np.maximum(np.abs(x), np.abs(y)) < 1e-10  # above, below, or in the middle
    middle = straight & (np.abs(z) < 1e-10)
    azimuth = np.where(straight, 0.0, azimuth)
    elevation = np.where(straight, np.where(middle, 0.0, np.sign(z) * 90.0), elevation)
    return azimuth, elevation, np.where(straight, np.abs(z), distance)


def sizes_to_cube(
    azimuth_deg: ArrayLike,
    elevation_deg: ArrayLike,
    width_deg: ArrayLike,
    height_deg: ArrayLike,
    depth: ArrayLike,
) -> tuple[Array, Array, Array]:
    """Sizes as angles at a direction, as sizes along x, y and z.

    Parameters
    ----------
    azimuth_deg, elevation_deg
        The direction, in degrees.
    width_deg, height_deg
        Whole angles, 0 to 360.
    depth
        0 to 1.

    Returns
    -------
        Sizes along x, y and z, each 0 to 1.
    """
    aside, along, above = _front_sizes(width_deg, height_deg, depth)
    axes = _axes(azimuth_deg, elevation_deg)
    x, y, z = np.moveaxis(
        np.sqrt(np.sum((axes * np.stack([aside, along, above], axis=-1)[..., None, :]) ** 2, -1)),
        -1,
        0,
    )
    return x, y, z


def sizes_to_sphere(
    azimuth_deg: ArrayLike, elevation_deg: ArrayLike, x: ArrayLike, y: ArrayLike, z: ArrayLike
) -> tuple[Array, Array, Array]:
    """Sizes along x, y and z at a direction, as sizes in angles.

    Parameters
    ----------
    azimuth_deg, elevation_deg
        The direction, in degrees.
    x, y, z
        Sizes, each 0 to 1.

    Returns
    -------
        Width and height in degrees, 0 to 360, and depth, 0 to 1.
    """
    axes = np.swapaxes(_axes(azimuth_deg, elevation_deg), -1, -2)
    sizes = np.stack(np.broadcast_arrays(*(np.asarray(v, dtype=float) for v in (x, y, z))), axis=-1)
    aside, along, above = np.moveaxis(np.sqrt(np.sum((axes * sizes[..., None, :]) ** 2, -1)), -1, 0)
    aside, along, above = (np.clip(v, 0.0, 1.0) for v in (aside, along, above))

    def angle(across: Array) -> Array:
        flat, deep = (
            2.0 * np.degrees(np.arcsin(across)),
            2.0 * np.degrees(np.arccos(1.0 - 2.0 * along)),
        )
        result: Array = flat + across * np.maximum(deep - flat, 0.0)
        return result

    width, height = angle(aside), angle(above)
    return width, height, np.maximum(along - _front_sizes(width, height, 0.0)[1], 0.0)


def _front_sizes(
    width_deg: ArrayLike, height_deg: ArrayLike, depth: ArrayLike
) -> tuple[Array, Array, Array]:
    width, height, deep = np.broadcast_arrays(
        *(np.asarray(v, dtype=float) for v in (width_deg, height_deg, depth))
    )

    def across(angle: Array) -> Array:
        return np.where(angle < 180.0, np.sin(np.radians(angle / 2.0)), 1.0)

    def along(angle: Array) -> Array:
        return (1.0 - np.cos(np.radians(angle / 2.0))) / 2.0

    return across(width), np.maximum(np.maximum(along(width), along(height)), deep), across(height)


def _axes(azimuth_deg: ArrayLike, elevation_deg: ArrayLike) -> Array:
    """The listener's right, outwards and up seen from a direction, as columns, (..., 3, 3)."""
    a, e = np.broadcast_arrays(np.radians(azimuth_deg), np.radians(elevation_deg))
    zero = np.zeros_like(a)
    right = np.stack([np.cos(a), np.sin(a), zero], axis=-1)
    out = np.stack([-np.sin(a) * np.cos(e), np.cos(a) * np.cos(e), np.sin(e)], axis=-1)
    return np.stack([right, out, np.cross(right, out)], axis=-1)


def _within(right_deg: float, left_deg: float, azimuth: Array) -> NDArray[np.bool_]:
    """Whether an angle lies on the way to the left from one to the other."""
    return (azimuth - right_deg) % 360.0 <= (left_deg - right_deg) % 360.0 + 1e-9


def _along(left_deg: float, right_deg: float, azimuth: Array) -> Array:
    """How far a direction lies from left (0) to right (1) on the wall.

    As amplitude panning would have it.
    """
    half = ((left_deg - right_deg) % 360.0) / 2.0
    off = ((azimuth - right_deg) % 360.0) - half  # to the left of the middle
    right = 0.5 * (1.0 - np.tan(np.radians(off)) / np.tan(np.radians(half)))
    result: Array = 2.0 / np.pi * np.arctan2(right, 1.0 - right)
    return result


def _azimuth(left_deg: float, right_deg: float, part: Array) -> Array:
    """The direction that lies so far from left (0) to right (1)."""
    half = ((left_deg - right_deg) % 360.0) / 2.0
    left, right = np.cos(part * np.pi / 2), np.sin(part * np.pi / 2)
    right = right / (left + right)
    off = np.degrees(np.arctan(2.0 * (0.5 - right) * np.tan(np.radians(half))))
    result: Array = (right_deg + half + off + 180.0) % 360.0 - 180.0
    return result
