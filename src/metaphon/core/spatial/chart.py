"""The whole sphere on one sheet, every direction at one place and equal areas equal."""

import numpy as np
from numpy.typing import ArrayLike, NDArray


def on_chart(azimuth_deg: ArrayLike, elevation_deg: ArrayLike) -> NDArray[np.float64]:
    """Where directions lie on the chart, (..., 2): x from -2 (rear, by the left) to 2, y from 1 (above) to -1.

    Front is in the middle. The Hammer projection (E. Hammer 1892; Snyder 1987, USGS professional paper 1395).
    """
    half = np.radians(np.asarray(azimuth_deg, dtype=float)) / 2.0
    high = np.radians(np.asarray(elevation_deg, dtype=float))
    scale = np.sqrt(1.0 + np.cos(high) * np.cos(half))
    x, y = -2.0 * np.cos(high) * np.sin(half) / scale, np.sin(high) / scale
    return np.stack(np.broadcast_arrays(x, y), axis=-1)
