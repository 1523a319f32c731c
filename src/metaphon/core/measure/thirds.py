"""Thirds of octaves: their middles and edges, and what of a spectrum lies in each.

Source: IEC 61260-1, base ten.
"""

import numpy as np
from numpy.typing import NDArray

MIDDLES_HZ = 1000.0 * 10.0 ** (np.arange(-16, 14) / 10.0)  # 25 Hz to 20 kHz
THIRDS_HZ = MIDDLES_HZ[1:-1]  # 31 Hz to 16 kHz


def edges_hz(middles_hz: NDArray[np.float64]) -> NDArray[np.float64]:
    """Where thirds that follow on each other begin, and where the last ends, (count + 1)."""
    edges: NDArray[np.float64] = np.append(middles_hz, middles_hz[-1] * 10.0**0.1) * 10.0**-0.05
    return edges


def banded(
    power: NDArray[np.float64], hertz: NDArray[np.float64], middles_hz: NDArray[np.float64]
) -> NDArray[np.float64]:
    """The power in each third, (..., thirds), of a spectrum (..., frequencies)."""
    edges = np.searchsorted(hertz, edges_hz(middles_hz))
    sums = np.concatenate([np.zeros((*power.shape[:-1], 1)), np.cumsum(power, axis=-1)], axis=-1)
    return np.diff(sums[..., edges], axis=-1)
