"""Turning a whole ambisonic scene."""

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from metaphon.core.spatial.ambisonics import encode, sphere_grid
from metaphon.core.spatial.decoding import per_channel
from metaphon.core.spatial.directions import angles_of, unit_vectors


def turn(yaw_deg: float, pitch_deg: float, roll_deg: float) -> NDArray[np.float64]:
    """The matrix that turns vectors x right, y front, z up: first roll, then pitch, then yaw.

    Yaw turns to the left, pitch lifts the front, roll lifts the left side.
    """
    a, b, c = np.radians([yaw_deg, pitch_deg, roll_deg])
    yaw = np.array([[np.cos(a), -np.sin(a), 0.0], [np.sin(a), np.cos(a), 0.0], [0.0, 0.0, 1.0]])
    pitch = np.array([[1.0, 0.0, 0.0], [0.0, np.cos(b), -np.sin(b)], [0.0, np.sin(b), np.cos(b)]])
    roll = np.array([[np.cos(c), 0.0, np.sin(c)], [0.0, 1.0, 0.0], [-np.sin(c), 0.0, np.cos(c)]])
    result: NDArray[np.float64] = yaw @ pitch @ roll
    return result


@lru_cache(maxsize=32)
def scene_rotation(
    order: int, yaw_deg: float, pitch_deg: float, roll_deg: float
) -> NDArray[np.float64]:
    """The matrix, (channels, channels), that turns an AmbiX scene as `turn` turns vectors.

    Not to be written to.

    Exact: harmonics of the turned directions projected on those of the grid, which integrates them
    exactly.
    """
    azimuth, elevation, weights = sphere_grid()
    turned = encode(
        *angles_of(unit_vectors(azimuth, elevation) @ turn(yaw_deg, pitch_deg, roll_deg).T), order
    )
    scale = per_channel(np.arange(1.0, 2.0 * order + 2.0, 2.0))
    matrix = turned.T @ (weights[:, None] * encode(azimuth, elevation, order) * scale)
    matrix[np.abs(matrix) < 1e-12] = 0.0
    matrix.flags.writeable = False
    return matrix
