"""Ambisonics in the AmbiX convention: ACN channel order, SN3D normalisation."""

from functools import lru_cache
from math import factorial

import numpy as np
from numpy.polynomial.legendre import leggauss
from numpy.typing import ArrayLike, NDArray
from scipy.special import lpmv

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
    rows = []
    for n in range(order + 1):
        for m in range(-n, n + 1):
            k = abs(m)
            scale = np.sqrt((1 if m == 0 else 2) * factorial(n - k) / factorial(n + k))
            # (-1)^k takes away the Condon-Shortley phase, which AmbiX does not have.
            legendre = (-1) ** k * lpmv(k, n, np.sin(elevation))
            rows.append(scale * legendre * (np.cos(k * azimuth) if m >= 0 else np.sin(k * azimuth)))
    return np.stack(rows, axis=-1)


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
