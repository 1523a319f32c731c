"""Ambisonic scenes of other normalisations brought to SN3D, channel by channel in ACN order.

N3D is SN3D times the square root of 2n + 1 (AmbiX, Nachbar et al. 2011). FuMa is scaled so that no
harmonic exceeds 1, and its W by 1 / sqrt(2) (D. Malham, Higher order ambisonic systems, 2003; from
memory).
"""

import numpy as np
from numpy.typing import NDArray

# the greatest value of each harmonic in SN3D, up to order 3
_GREATEST = np.array(
    [np.sqrt(2.0)]  # of W it is the inverse of what FuMa takes off
    + [1.0] * 3
    + [np.sqrt(3.0) / 2.0] * 2
    + [1.0]
    + [np.sqrt(3.0) / 2.0] * 2
    + [np.sqrt(5.0 / 8.0), np.sqrt(5.0) / 3.0, np.sqrt(32.0 / 45.0), 1.0]
    + [np.sqrt(32.0 / 45.0), np.sqrt(5.0) / 3.0, np.sqrt(5.0 / 8.0)]
)


def to_sn3d(norm: str, channels: int) -> NDArray[np.float64] | None:
    """What each channel, in ACN order, is multiplied by; None for a normalisation not known.

    Examples
    --------
    >>> to_sn3d("N3D", 4).round(4).tolist()
    [1.0, 0.5774, 0.5774, 0.5774]
    """
    if norm in ("SN3D", ""):
        return np.ones(channels)
    if norm == "N3D":
        return 1.0 / np.sqrt(2.0 * np.floor(np.sqrt(np.arange(channels))) + 1.0)
    if norm == "FuMa" and channels <= len(_GREATEST):
        return _GREATEST[:channels].copy()
    return None
