"""Ambisonics in the AmbiX convention: ACN channel order, SN3D normalisation."""

from functools import lru_cache
from math import factorial

import numpy as np
from numpy.polynomial.legendre import leggauss
from numpy.typing import ArrayLike, NDArray

from metaphon.core.errors import InputError

MAX_ORDER = 7


def channels_of(order: int) -> int:
    """The number of channels of a full-sphere scene of this order."""
    return (order + 1) ** 2


def order_of(channels: int) -> int:
    """The order of a scene with so many channels.

    Raises InputError where no full sphere has that many.
    """
    order = round(np.sqrt(channels)) - 1
    if channels < 1 or channels_of(order) != channels:
        raise InputError(
            "An ambisonic scene has 4, 9, 16 and so on up to 64 channels, this has "
            f"{channels}; place it as bed or object."
        )
    result: int = order
    return result


def encode(azimuth_deg: ArrayLike, elevation_deg: ArrayLike, order: int) -> NDArray[np.float64]:
    """Spherical harmonics of a direction: the gains that place a sound in an ambisonic scene.

    Parameters
    ----------
    azimuth_deg, elevation_deg
        Angles that broadcast against each other, in degrees; left and up are positive.
    order
        Of the scene, 0 to 7.

    Returns
    -------
        AmbiX gains (ACN order, SN3D), the shape of the angles plus ((order + 1) ** 2).

    References
    ----------
        C. Nachbar et al., AmbiX: a suggested ambisonics format, 2011.

    Examples
    --------
    >>> (encode(90.0, 0.0, 1).round(4) + 0.0).tolist()  # straight left: W and Y
    [1.0, 1.0, 0.0, 0.0]
    """
    azimuth, elevation = np.broadcast_arrays(np.radians(azimuth_deg), np.radians(elevation_deg))
    legendre = _legendre(np.sin(elevation), order)
    around = [(np.cos(k * azimuth), np.sin(k * azimuth)) for k in range(order + 1)]
    rows = []
    for n in range(order + 1):
        for m in range(-n, n + 1):
            k = abs(m)
            scale = np.sqrt((1 if m == 0 else 2) * factorial(n - k) / factorial(n + k))
            rows.append(scale * legendre[n, k] * around[k][m < 0])
    return np.stack(rows, axis=-1)


def _legendre(x: NDArray[np.float64], order: int) -> dict[tuple[int, int], NDArray[np.float64]]:
    """Associated Legendre functions by degree and order, without the Condon-Shortley phase.

    By their recurrence (Abramowitz & Stegun, 8.5.3); AmbiX does not have the phase.
    """
    found = {}
    sectoral = np.ones_like(x)
    for k in range(order + 1):
        found[k, k] = sectoral
        if k < order:
            found[k + 1, k] = (2 * k + 1) * x * sectoral
        for n in range(k + 2, order + 1):
            two = (2 * n - 1) * x * found[n - 1, k]
            found[n, k] = (two - (n + k - 1) * found[n - 2, k]) / (n - k)
        sectoral = sectoral * (2 * k + 1) * np.sqrt(np.maximum(1.0 - x * x, 0.0))
    return found


@lru_cache(maxsize=8)
def sphere_grid(
    degree: int = 24,
) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    """Directions on the sphere that integrate polynomials exactly.

    Gauss-Legendre in height, evenly spaced in azimuth.

    Parameters
    ----------
    degree
        Up to which polynomial degree the sum of weights times values is the mean over the sphere.

    Returns
    -------
        Azimuths and elevations in degrees, and weights that sum to one, each (directions).
    """
    heights, weights = leggauss(degree // 2 + 1)
    turns = degree + 2
    azimuth = np.tile(np.arange(turns) * 360.0 / turns - 180.0 + 180.0 / turns, len(heights))
    elevation = np.repeat(np.degrees(np.arcsin(heights)), turns)
    return azimuth, elevation, np.repeat(weights / 2.0, turns) / turns
