"""The whole sphere on one sheet, every direction at one place and equal areas equal."""

import numpy as np
from numpy.typing import ArrayLike, NDArray


def on_chart(azimuth_deg: ArrayLike, elevation_deg: ArrayLike) -> NDArray[np.float64]:
    """Where directions lie on the chart, (..., 2).

    X from -2 (rear, by the left) to 2, y from 1 (above) to -1.

    Front is in the middle. The Hammer projection (E. Hammer 1892; Snyder 1987, USGS professional
    paper 1395).
    """
    half = np.radians(np.asarray(azimuth_deg, dtype=float)) / 2.0
    high = np.radians(np.asarray(elevation_deg, dtype=float))
    scale = np.sqrt(1.0 + np.cos(high) * np.cos(half))
    x, y = -2.0 * np.cos(high) * np.sin(half) / scale, np.sin(high) / scale
    return np.stack(np.broadcast_arrays(x, y), axis=-1)


def graticule() -> list[str]:
    """Meridians every 45 degrees and parallels every 30 as SVG paths, 100 units to the unit.

    Y downwards.
    """
    high, around = np.linspace(-90, 90, 37), np.linspace(-179.99, 179.99, 73)
    lines = [
        on_chart(azimuth, high) for azimuth in (-179.99, -135, -90, -45, 0, 45, 90, 135, 179.99)
    ]
    lines += [on_chart(around, elevation) for elevation in (-60, -30, 0, 30, 60)]
    return ["M" + "L".join(f"{x * 100:.1f} {-y * 100:.1f}" for x, y in line) for line in lines]
