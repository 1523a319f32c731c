"""One position said in two ways: as angles and distance round the listener, or as a place in a cube-shaped room.

The cube reaches from -1 to 1: x to the right, y to the front, z up. Loudspeakers of 4+5+0 stand at its corners and
edges, so what stands on one of them in one way does so in the other too.
Source: ITU-R BS.2127-1, section 10.1 (conversion of point sources).
"""

import numpy as np

# (azimuth in degrees, x, y) of the loudspeakers that mark the sectors, going round to the right
_CORNERS = ((0.0, 0.0, 1.0), (-30.0, 1.0, 1.0), (-110.0, 1.0, -1.0), (110.0, -1.0, -1.0), (30.0, -1.0, 1.0))
_HIGH_DEG = 30.0  # elevation of the upper loudspeakers, at the upper edge of the cube
_HIGH_IN_CUBE_DEG = 45.0


def to_cube(azimuth_deg: float, elevation_deg: float, distance: float = 1.0) -> tuple[float, float, float]:
    """Angles and distance (1 is the loudspeaker sphere) as x, y, z in the cube."""
    if abs(elevation_deg) > _HIGH_DEG:
        share = (abs(elevation_deg) - _HIGH_DEG) / (90.0 - _HIGH_DEG)
        steep = _HIGH_IN_CUBE_DEG + (90.0 - _HIGH_IN_CUBE_DEG) * share
        z = float(np.sign(elevation_deg)) * distance
        level = distance * float(np.tan(np.radians(90.0 - steep)))
    else:
        z = float(np.tan(np.radians(_HIGH_IN_CUBE_DEG * elevation_deg / _HIGH_DEG))) * distance
        level = distance
    left, right = _sector(azimuth_deg)
    part = _along(left[0], right[0], azimuth_deg)
    x, y = (left[i] + (right[i] - left[i]) * part for i in (1, 2))
    return level * x, level * y, z


def to_sphere(x: float, y: float, z: float) -> tuple[float, float, float]:
    """A place in the cube as azimuth, elevation (degrees) and distance; the middle is straight ahead at distance 0."""
    level = max(abs(x), abs(y))
    if level < 1e-10:
        return (0.0, 0.0, 0.0) if abs(z) < 1e-10 else (0.0, float(np.sign(z)) * 90.0, abs(z))
    turn = -float(np.degrees(np.arctan2(x, y)))
    for number, left in enumerate(_CORNERS):
        right = _CORNERS[(number + 1) % len(_CORNERS)]
        edge = -float(np.degrees(np.arctan2(left[1], left[2]))), -float(np.degrees(np.arctan2(right[1], right[2])))
        if _within(edge[1], edge[0], turn):
            break
    wide = np.linalg.inv(np.array([left[1:], right[1:]])).T @ np.array([x, y])
    level = float(wide.sum())
    azimuth = _azimuth(left[0], right[0], float(wide[1] / level))
    steep = float(np.degrees(np.arctan2(z, level)))
    if abs(steep) > _HIGH_IN_CUBE_DEG:
        share = (abs(steep) - _HIGH_IN_CUBE_DEG) / (90.0 - _HIGH_IN_CUBE_DEG)
        return azimuth, float(np.sign(z)) * (_HIGH_DEG + (90.0 - _HIGH_DEG) * share), abs(z)
    return azimuth, steep * _HIGH_DEG / _HIGH_IN_CUBE_DEG, level


def _sector(azimuth_deg: float) -> tuple[tuple[float, float, float], tuple[float, float, float]]:
    for number, left in enumerate(_CORNERS):
        right = _CORNERS[(number + 1) % len(_CORNERS)]
        if _within(right[0], left[0], azimuth_deg):
            return left, right
    raise AssertionError("the sectors go all the way round")


def _within(right_deg: float, left_deg: float, azimuth_deg: float) -> bool:
    """Whether an angle lies on the way to the left from one to the other."""
    return (azimuth_deg - right_deg) % 360.0 <= (left_deg - right_deg) % 360.0 + 1e-9


def _along(left_deg: float, right_deg: float, azimuth_deg: float) -> float:
    """How far a direction lies from left (0) to right (1) on the wall, as amplitude panning would have it."""
    half = ((left_deg - right_deg) % 360.0) / 2.0
    off = ((azimuth_deg - right_deg) % 360.0) - half  # to the left of the middle
    right = 0.5 * (1.0 - np.tan(np.radians(off)) / np.tan(np.radians(half)))
    return float(2.0 / np.pi * np.arctan2(right, 1.0 - right))


def _azimuth(left_deg: float, right_deg: float, part: float) -> float:
    """The direction that lies so far from left (0) to right (1)."""
    half = ((left_deg - right_deg) % 360.0) / 2.0
    left, right = np.cos(part * np.pi / 2), np.sin(part * np.pi / 2)
    right /= left + right
    off = np.degrees(np.arctan(2.0 * (0.5 - right) * np.tan(np.radians(half))))
    azimuth = (right_deg + half + off + 180.0) % 360.0 - 180.0
    return float(azimuth)
