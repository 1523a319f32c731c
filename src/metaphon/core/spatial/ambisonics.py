"""Ambisonics in the AmbiX convention: ACN channel order, SN3D normalisation."""

from functools import lru_cache
from math import factorial

import numpy as np
from numpy.polynomial.legendre import leggauss
from numpy.typing import ArrayLike, NDArray
from scipy.special import eval_legendre, lpmv

from metaphon.core.errors import InputError
from metaphon.core.spatial.layouts import Layout
from metaphon.core.spatial.panning import vector_pan

MAX_ORDER = 7


def channels_of(order: int) -> int:
    """The number of channels of a full-sphere scene of this order."""
    return (order + 1) ** 2


def order_of(channels: int) -> int:
    """The order of a scene with so many channels. Raises InputError where no full sphere has that many."""
    order = round(np.sqrt(channels)) - 1
    if channels < 1 or channels_of(order) != channels:
        raise InputError(f"An ambisonic scene has 4, 9 or 16 channels, this has {channels}; place it as bed or object.")
    return order


def encode(azimuth_deg: ArrayLike, elevation_deg: ArrayLike, order: int) -> NDArray[np.float64]:
    """Spherical harmonics of a direction, shape of the angles plus ((order + 1) ** 2).

    Source: AmbiX, Nachbar et al. 2011.
    """
    azimuth, elevation = np.broadcast_arrays(np.radians(azimuth_deg), np.radians(elevation_deg))
    rows = []
    for n in range(order + 1):
        for m in range(-n, n + 1):
            k = abs(m)
            scale = np.sqrt((1 if m == 0 else 2) * factorial(n - k) / factorial(n + k))
            # (-1)^k takes away the Condon-Shortley phase, which AmbiX does not have.
            legendre = (-1) ** k * lpmv(k, n, np.sin(elevation))
            rows.append(scale * legendre * (np.cos(k * azimuth) if m >= 0 else np.sin(k * azimuth)))
    return np.stack(rows, axis=-1)


def max_re_weights(order: int) -> NDArray[np.float64]:
    """The weight of each order that makes the energy vector longest. Source: Zotter & Frank 2012."""
    return eval_legendre(np.arange(order + 1), np.cos(np.radians(137.9 / (order + 1.51))))


@lru_cache(maxsize=8)
def sphere_grid(degree: int = 24) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    """Azimuths, elevations (degrees) and weights (summing to one) of a grid exact to this polynomial degree.

    Gauss-Legendre in height, evenly spaced in azimuth.
    """
    heights, weights = leggauss(degree // 2 + 1)
    turns = degree + 2
    azimuth = np.tile(np.arange(turns) * 360.0 / turns - 180.0 + 180.0 / turns, len(heights))
    elevation = np.repeat(np.degrees(np.arcsin(heights)), turns)
    return azimuth, elevation, np.repeat(weights / 2.0, turns) / turns


def virtual_decode(order: int) -> NDArray[np.float64]:
    """Decode a scene to the directions of `sphere_grid`, (directions, channels), max-rE weighted, summing energy to one."""
    azimuth, elevation, weights = sphere_grid()
    harmonics = encode(azimuth, elevation, order)
    per_channel = np.concatenate([[(2 * n + 1) * w] * (2 * n + 1) for n, w in enumerate(max_re_weights(order))])
    return weights[:, None] * harmonics * per_channel


@lru_cache(maxsize=64)
def decode_matrix(order: int, layout: Layout) -> NDArray[np.float64]:
    """The gains (channels of the layout, channels of the scene) that play a scene on loudspeakers.

    The scene is decoded to a sphere of imaginary loudspeakers which are then panned; the energy summed over
    the loudspeakers is one on average over all directions. Source: AllRAD, Zotter & Frank 2012.
    """
    azimuth, elevation, weights = sphere_grid()
    matrix = vector_pan(azimuth, elevation, layout).T @ virtual_decode(order)
    energy = np.sum(weights * np.sum((matrix @ encode(azimuth, elevation, order).T) ** 2, axis=0))
    return matrix / np.sqrt(energy)
