"""Playing an ambisonic scene on loudspeakers.

How it is decoded, and how the orders are weighted.
"""

from functools import lru_cache
from typing import Literal

import numpy as np
from numpy.polynomial.legendre import legval
from numpy.typing import NDArray

from metaphon.core.spatial.ambisonics import encode, sphere_grid
from metaphon.core.spatial.layouts import Layout
from metaphon.core.spatial.panning import vector_pan

Decoder = Literal["allrad", "projection", "mode_matching"]
Weighting = Literal["max_re", "basic", "dual_band"]
CROSSOVER_HZ = 400.0  # dual band: basic below, max-rE above (Gerzon 1992)
_STEADY = (
    0.05  # singular values below this part of the largest are no direction that the layout can play
)


def max_re_weights(order: int) -> NDArray[np.float64]:
    """The weight of each order that makes the energy vector longest.

    Source: Zotter & Frank 2012.
    """
    at = np.cos(np.radians(137.9 / (order + 1.51)))
    return np.array([legval(at, np.eye(order + 1)[n]) for n in range(order + 1)])


def per_channel(weights: NDArray[np.float64]) -> NDArray[np.float64]:
    """One weight an order as one a channel."""
    return np.repeat(weights, 2 * np.arange(len(weights)) + 1)


def virtual_decode(order: int, weighting: Weighting = "max_re") -> NDArray[np.float64]:
    """Decode a scene to the directions of `sphere_grid`, summing energy to one.

    Returns
    -------
        Gains, (directions, channels of the scene).
    """
    azimuth, elevation, weights = sphere_grid()
    by_order = max_re_weights(order) if weighting == "max_re" else np.ones(order + 1)
    scale = per_channel((2.0 * np.arange(order + 1) + 1.0) * by_order)
    return weights[:, None] * encode(azimuth, elevation, order) * scale


@lru_cache(maxsize=128)
def decode_matrix(
    order: int, layout: Layout, decoder: Decoder = "allrad", weighting: Weighting = "max_re"
) -> NDArray[np.float64]:
    """The gains that play an ambisonic scene on loudspeakers.

    The energy summed over the loudspeakers is one on average over all directions; LFE is left out.
    For `dual_band` these are the gains above the crossover.

    Parameters
    ----------
    order
        Of the scene, 1 to 7.
    layout
        The loudspeakers.
    decoder
        AllRAD, projection or mode matching, as they are named in `Decoder`.
    weighting
        `basic`, `max_re` or `dual_band`, as they are named in `Weighting`.

    Returns
    -------
        Gains, (channels of the layout, channels of the scene).

    References
    ----------
        J. Daniel, thesis, 2000, chapter 3 (projection, mode matching); F. Zotter & M. Frank,
        All-round ambisonic panning and decoding, J. Audio Eng. Soc. 60(10), 2012 (AllRAD, max-rE).
    """
    kind: Weighting = "basic" if weighting == "basic" else "max_re"
    azimuth, elevation, weights = sphere_grid()
    if decoder == "allrad":
        matrix = vector_pan(azimuth, elevation, layout).T @ virtual_decode(order, kind)
    else:
        by_order = max_re_weights(order) if kind == "max_re" else np.ones(order + 1)
        matrix = np.zeros((layout.channels, (order + 1) ** 2))
        main = list(layout.main)
        azimuths, elevations = np.array(layout.angles_deg)[main].T
        harmonics = encode(azimuths, elevations, order)  # (loudspeakers, channels)
        if decoder == "projection":
            matrix[main] = harmonics * per_channel((2.0 * np.arange(order + 1) + 1.0) * by_order)
        else:
            matrix[main] = np.linalg.pinv(harmonics.T, rcond=_STEADY) * per_channel(by_order)
    energy = np.sum(weights * np.sum((matrix @ encode(azimuth, elevation, order).T) ** 2, axis=0))
    matrix = matrix / np.sqrt(energy)
    matrix.flags.writeable = False
    result: NDArray[np.float64] = matrix
    return result
