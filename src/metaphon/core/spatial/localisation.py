"""Where a panned sound appears to come from, and how sharply."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from metaphon.core.spatial.directions import unit_vectors
from metaphon.core.spatial.layouts import Layout

Panner = Callable[[NDArray[np.float64], NDArray[np.float64], Layout], NDArray[np.float64]]


@dataclass(frozen=True)
class Localised:
    """Of directions, each of shape (directions).

    The error of velocity and energy vector in degrees, and the spread.

    The spread is the angle 2 arccos |rE| of an energy vector this long (Zotter & Frank 2019,
    section 2.3).
    """

    velocity_error_deg: NDArray[np.float64]
    energy_error_deg: NDArray[np.float64]
    spread_deg: NDArray[np.float64]


def localised(
    azimuth_deg: NDArray[np.float64],
    elevation_deg: NDArray[np.float64],
    layout: Layout,
    panner: Panner,
) -> Localised:
    """Judge a panner on a layout by its velocity and energy vectors.

    Source: Gerzon, M. A. (1992), General metatheory of auditory localisation, AES 92.

    Parameters
    ----------
    azimuth_deg, elevation_deg
        Directions (count), positive to the left and up.
    layout
        The loudspeakers; an LFE takes no part.
    panner
        Gives gains (count, channels) for directions.

    Returns
    -------
        Errors and spread in degrees, (count) each.
    """
    gains = panner(azimuth_deg, elevation_deg, layout)[..., list(layout.main)]
    vectors = layout.vectors[list(layout.main)]
    wanted = unit_vectors(azimuth_deg, elevation_deg)
    velocity = gains @ vectors / np.maximum(np.abs(gains.sum(axis=-1, keepdims=True)), 1e-9)
    energy = gains**2 @ vectors / np.maximum(np.sum(gains**2, axis=-1, keepdims=True), 1e-12)
    length = np.clip(np.linalg.norm(energy, axis=-1), 0.0, 1.0)
    return Localised(
        _apart(velocity, wanted), _apart(energy, wanted), 2.0 * np.degrees(np.arccos(length))
    )


def _apart(one: NDArray[np.float64], other: NDArray[np.float64]) -> NDArray[np.float64]:
    cosine = np.sum(one * other, axis=-1) / np.maximum(np.linalg.norm(one, axis=-1), 1e-9)
    result: NDArray[np.float64] = np.degrees(np.arccos(np.clip(cosine, -1.0, 1.0)))
    return result
