"""Panning in a cube-shaped room: layer by layer, row by row, from side to side.

Gains squared always sum to one.

Source: ITU-R BS.2127-1, section 7.3.10 (allocentric panner); its positions of loudspeakers from
memory.
"""

from functools import lru_cache

import numpy as np
from numpy.typing import ArrayLike, NDArray

from metaphon.core.spatial.layouts import Layout

Gains = NDArray[np.float64]
_INNER_X = float(np.sqrt(2.0) - 1.0)  # of loudspeakers between the middle and the front corners


@lru_cache(maxsize=64)
def cube_positions(layout: Layout) -> NDArray[np.float64]:
    """Where the loudspeakers of a layout stand in the room, (channels, 3).

    X right, y front, z up, each -1 to 1.

    In each layer the widest of the front stand in the front corners, what is behind in the rear
    corners. The array is not to be written to.
    """
    azimuth, elevation = np.array(layout.angles_deg, dtype=float).T
    found = np.zeros((layout.channels, 3))
    for i in layout.main:
        found[i, 2] = float(
            np.sign(round(elevation[i] / 15.0))
        )  # within 7 degrees of the ears counts as level
        if abs(elevation[i]) > 75.0:
            continue
        layer = [k for k in layout.main if np.sign(round(elevation[k] / 15.0)) == found[i, 2]]
        widest = max((abs(azimuth[k]) for k in layer if abs(azimuth[k]) <= 75.0), default=0.0)
        side, turn = -np.sign(azimuth[i]), abs(azimuth[i])
        if turn <= 75.0:
            found[i, :2] = side * (1.0 if turn == widest else _INNER_X) if turn else 0.0, 1.0
        elif turn <= 100.0:
            found[i, :2] = side, 0.0
        else:
            found[i, :2] = side if turn < 180.0 else 0.0, -1.0
    found.flags.writeable = False
    return found


def cube_pan(positions: ArrayLike, layout: Layout) -> Gains:
    """Pan places in the room to the loudspeakers of a layout.

    Between two layers, rows or columns the power passes by sine and cosine; beyond the outermost it
    stays there.

    Parameters
    ----------
    positions
        Places, (..., 3): x right, y front, z up, each -1 to 1.
    layout
        The loudspeakers.

    Returns
    -------
        Amplitude gains, (..., channels), LFE always 0.
    """
    places = np.asarray(positions, dtype=float)
    x, y, z = np.moveaxis(places, -1, 0)
    gains = np.zeros((*places.shape[:-1], layout.channels))
    layers = _grid(layout)
    for layer, rows in zip(layers.values(), _shares(z, list(layers)), strict=True):
        for row, columns in zip(layer.values(), _shares(y, list(layer)), strict=True):
            for channel, share in zip(row.values(), _shares(x, list(row)), strict=True):
                gains[..., channel] += rows * columns * share
    return np.where(np.abs(gains) < 1e-12, 0.0, gains)


@lru_cache(maxsize=64)
def _grid(layout: Layout) -> dict[float, dict[float, dict[float, int]]]:
    """Channels by z, y and x, each in rising order. Two that stand at one place share no sound.

    The first has it.
    """
    found: dict[float, dict[float, dict[float, int]]] = {}
    for x, y, z, channel in sorted((*cube_positions(layout)[i, ::-1], i) for i in layout.main):
        found.setdefault(x, {}).setdefault(y, {}).setdefault(z, channel)  # sorted by z, y, x
    return found


def _shares(value: NDArray[np.float64], marks: list[float]) -> list[NDArray[np.float64]]:
    """The gain of each mark, in rising order, for values between them."""
    shares = [np.zeros_like(value) for _ in marks]
    if len(marks) == 1:
        return [np.ones_like(value)]
    place = np.clip(np.searchsorted(marks, value, side="right") - 1, 0, len(marks) - 2)
    low, high = np.array(marks)[place], np.array(marks)[place + 1]
    way = np.clip((value - low) / (high - low), 0.0, 1.0) * np.pi / 2
    for number in range(len(marks)):
        shares[number] = np.where(
            place == number, np.cos(way), np.where(place + 1 == number, np.sin(way), 0.0)
        )
    return shares
