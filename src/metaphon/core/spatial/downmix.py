"""From one loudspeaker layout to another.

Published fold-down coefficients, and panning for the rest.
"""

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from metaphon.core.spatial.layouts import LAYOUTS, Layout, layout_named
from metaphon.core.spatial.panning import vector_pan

HALF_POWER = float(np.sqrt(0.5))

# ITU-R BS.775-4, tables 2 and 3: {target: {source label: {target label: gain}}}. LFE is left out.
_FOLD_DOWN: dict[str, dict[str, dict[str, float]]] = {
    "0+2+0": {
        "M+000": {"M+030": HALF_POWER, "M-030": HALF_POWER},
        "M+110": {"M+030": HALF_POWER},
        "M-110": {"M-030": HALF_POWER},
    },
    "0+1+0": {
        "M+030": {"M+000": HALF_POWER},
        "M-030": {"M+000": HALF_POWER},
        "M+110": {"M+000": 0.5},
        "M-110": {"M+000": 0.5},
    },
}


@lru_cache(maxsize=256)
def conversion(source: str, target: str) -> NDArray[np.float64]:
    """The gains that take one loudspeaker layout to another.

    A channel that both have passes unchanged. To stereo and mono the published table holds, and
    wider layouts go through 5.1 first. Everything else is panned to where its loudspeaker stood.
    LFE goes to the LFE, or nowhere.

    Parameters
    ----------
    source, target
        Names of layouts, as `layout_named` knows them.

    Returns
    -------
        Gains, (target channels, source channels); not to be written to.

    References
    ----------
        ITU-R BS.775-4, annex 4.

    Examples
    --------
    >>> conversion("0+5+0", "0+2+0").round(4).tolist()  # L, R, C, LFE, Ls, Rs
    [[1.0, 0.0, 0.7071, 0.0, 0.7071, 0.0], [0.0, 1.0, 0.7071, 0.0, 0.0, 0.7071]]
    """
    one, other = layout_named(source), layout_named(target)
    if target in _FOLD_DOWN and source not in ("0+5+0", *_NARROW):
        matrix = conversion("0+5+0", target) @ conversion(source, "0+5+0")
        # parts that meet again add up as amplitudes; no channel may come out louder than it was
        matrix = matrix / np.maximum(np.linalg.norm(matrix, axis=0), 1.0)
    else:
        matrix = np.stack([_channel(one, i, other) for i in range(one.channels)], axis=1)
    matrix.flags.writeable = False
    return matrix


_NARROW = tuple(name for name, layout in LAYOUTS.items() if layout.channels <= 3)


def _channel(source: Layout, index: int, target: Layout) -> NDArray[np.float64]:
    label = source.labels[index]
    gains = np.zeros(target.channels)
    if label in target.labels:
        gains[target.labels.index(label)] = 1.0
    elif source.is_lfe[index]:
        if "LFE1" in target.labels:
            gains[target.labels.index("LFE1")] = 1.0
    elif label in _FOLD_DOWN.get(target.name, {}):
        for there, gain in _FOLD_DOWN[target.name][label].items():
            gains[target.labels.index(there)] = gain
    else:
        gains = vector_pan(*source.angles_deg[index], target)
    return gains
