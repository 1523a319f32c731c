"""Any format as a stereo pair, and how much its sides then agree."""

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from metaphon.core.document.targets import Target
from metaphon.core.files.audio import probe
from metaphon.core.files.channel_labels import LayoutReader
from metaphon.core.measure.correlation import CorrelationMeter
from metaphon.core.spatial.decoding import decode_matrix
from metaphon.core.spatial.downmix import PUBLISHED, Shares, conversion
from metaphon.core.spatial.layouts import LAYOUTS

_BLOCK = 1 << 16
_STEREO = LAYOUTS["0+2+0"]


def downmix_matrix(target: Target, shares: Shares = PUBLISHED) -> NDArray[np.float64]:
    """The gains of any result to a stereo pair.

    Parameters
    ----------
    target
        Loudspeakers, a scene (decoded) or two ears (as they are).
    shares
        What is kept of what stereo has no place for.

    Returns
    -------
        Gains, (2, channels of the target).

    References
    ----------
        ITU-R BS.775-4, annex 4, for loudspeakers.
    """
    if target.layout:
        return conversion(target.layout.name, _STEREO.name, shares)
    if target.order is None:
        return np.eye(2)
    return decode_matrix(target.order, _STEREO)


def fold_down_correlation(path: Path, target: Target, shares: Shares) -> list[float | None]:
    """How alike the two sides of a file's fold-down are over time.

    Parameters
    ----------
    path
        The file.
    target
        What it holds.
    shares
        What is kept of what stereo has no place for.

    Returns
    -------
        Normalised product, -1 to 1, every 100 ms; None where a side is silent.
    """
    matrix = downmix_matrix(target, shares).astype(np.float32)
    info = probe(path)
    meter = CorrelationMeter(info.sample_rate_hz)
    reader = LayoutReader(path, target.layout)
    for first in range(0, info.frames, _BLOCK):
        pair = matrix @ reader.read(first, min(_BLOCK, info.frames - first))
        meter.add(pair[0], pair[1])
    reader.close()
    meter.finish()
    return meter.over_time
