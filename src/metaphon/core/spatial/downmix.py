"""From one loudspeaker layout to another: the published coefficients, and one rule for the rest.

Sides stay sides. In front of 60 degrees is front, beyond is surround. A loudspeaker goes to the two
of its own part that stand round it, or to the nearest there; a surround that finds no surround goes
to the front at the surround share, a centre that finds none to both sides at the centre share. A
layer that is missing is the one at the level of the ears.
"""

from collections.abc import Iterable
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from metaphon.core.spatial.directions import Vectors
from metaphon.core.spatial.layouts import LAYOUTS, LEVEL_DEG, TOP_DEG, Layout, layout_named
from metaphon.core.spatial.panning import pan_vectors, surrounds

HALF_POWER = float(np.sqrt(0.5))
CENTRE_SHARE = HALF_POWER  # of a centre, at each side (ITU-R BS.775-4, table 2)
SURROUND_SHARE = HALF_POWER  # of a surround, in front (ITU-R BS.775-4, table 2)
_FRONT_DEG = 60.0
_ASIDE_DEG = 22.5  # what lies farther out belongs to its own side

Parts = dict[int, float]  # gains by channel


@lru_cache(maxsize=256)
def conversion(source: str, target: str) -> NDArray[np.float64]:
    """The gains that take one loudspeaker layout to another.

    A channel that both have passes unchanged. LFE goes to the LFE, or nowhere. Mono is left and
    right at the centre share, and the centre.

    Parameters
    ----------
    source, target
        Names of layouts, as `layout_named` knows them.

    Returns
    -------
        Gains, (target channels, source channels); not to be written to.

    References
    ----------
        ITU-R BS.775-4, annex 4, tables 2 and 3; for layers that are missing, ITU-R BS.2127-1,
        section 6 (from memory).

    Examples
    --------
    >>> conversion("0+5+0", "0+2+0").round(4).tolist()  # L, R, C, LFE, Ls, Rs
    [[1.0, 0.0, 0.7071, 0.0, 0.7071, 0.0], [0.0, 1.0, 0.7071, 0.0, 0.0, 0.7071]]
    """
    one, other = layout_named(source), layout_named(target)
    matrix = np.zeros((other.channels, one.channels))
    if len(other.main) == 1 and source != target:
        sides = np.array([[HALF_POWER, HALF_POWER, 1.0]])
        matrix[list(other.main)] = sides @ conversion(source, "0+3+0")
    else:
        for channel in range(one.channels):
            for there, gain in _parts_of(one, channel, other).items():
                matrix[there, channel] = gain
    # parts that meet again add up as amplitudes; no channel may come out louder than it was
    matrix /= np.maximum(np.linalg.norm(matrix, axis=0), 1.0)
    matrix.flags.writeable = False
    return matrix


def fold_power(vectors: Vectors, layout: Layout) -> NDArray[np.float64]:
    """What a layout keeps of the power of a direction, as it does of a bed's loudspeakers there.

    Parameters
    ----------
    vectors
        Unit vectors, (..., 3).
    layout
        The loudspeakers.

    Returns
    -------
        Parts of power, (...): 1 where the layout has surrounds.
    """
    if surrounds(layout):
        return np.ones(vectors.shape[:-1])
    kept = np.sum(conversion("0+5+0", layout.name) ** 2, axis=0)
    result: NDArray[np.float64] = pan_vectors(vectors, LAYOUTS["0+5+0"]) ** 2 @ kept
    return result


def _parts_of(source: Layout, channel: int, target: Layout) -> Parts:
    label = source.labels[channel]
    if label in target.labels:
        return {target.labels.index(label): 1.0}
    if source.is_lfe[channel]:
        return {target.labels.index("LFE1"): 1.0} if "LFE1" in target.labels else {}
    azimuth, elevation = source.angles_deg[channel]
    for ring in _rings(elevation, target):
        if ring:
            return _in_ring(azimuth, abs(elevation) >= TOP_DEG, ring)
    return {}


def _rings(elevation_deg: float, target: Layout) -> Iterable[dict[int, float]]:
    """The layers that a loudspeaker may go to, best first: azimuths by channel."""

    def ring(low: float, high: float) -> dict[int, float]:
        angles = target.angles_deg
        return {i: angles[i][0] for i in target.main if low <= angles[i][1] < high}

    level = ring(-LEVEL_DEG, LEVEL_DEG + 1e-9)
    if elevation_deg >= TOP_DEG:
        yield ring(TOP_DEG, 91.0)
    if elevation_deg > LEVEL_DEG:
        yield ring(LEVEL_DEG + 1e-9, TOP_DEG)
    if elevation_deg < -LEVEL_DEG:
        yield ring(-91.0, -LEVEL_DEG)
    yield level
    yield {i: target.angles_deg[i][0] for i in target.main}


def _in_ring(azimuth_deg: float, overhead: bool, ring: dict[int, float]) -> Parts:
    """How the loudspeakers of a layer share what stands at an angle, or above them all."""
    if overhead:
        return dict.fromkeys(ring, 1.0 / np.sqrt(len(ring)))
    away = abs(azimuth_deg)
    side = 0.0 if away in (0.0, 180.0) else np.sign(azimuth_deg)
    own = {
        i: abs(azimuth)
        for i, azimuth in ring.items()
        if abs(azimuth) in (0.0, 180.0) or side in (0.0, np.sign(azimuth))
    } or {i: abs(azimuth) for i, azimuth in ring.items()}
    front = {i: a for i, a in own.items() if a <= _FRONT_DEG}
    behind = {i: a for i, a in own.items() if a > _FRONT_DEG}
    part = (front if away <= _FRONT_DEG else behind) or own
    folded = away > _FRONT_DEG and not behind
    share = SURROUND_SHARE if folded else 1.0
    if side == 0.0:
        nearest = min(abs(a - away) for a in part.values())
        found = [i for i, a in part.items() if abs(a - away) == nearest]
        each = share if len(found) == 1 else CENTRE_SHARE * share
        return dict.fromkeys(found, each)
    inner = max((i for i, a in part.items() if a <= away), key=part.__getitem__, default=None)
    outer = min((i for i, a in part.items() if a >= away), key=part.__getitem__, default=None)
    if inner is not None and outer is not None and inner != outer:
        return _between(away, part[inner], inner, part[outer], outer)
    if inner is None and outer is not None and away < _ASIDE_DEG:
        # nothing in the middle: between this side and the other one
        across = [i for i, azimuth in ring.items() if azimuth == -side * part[outer]]
        if across:
            return _between(away, -part[outer], across[0], part[outer], outer)
    return {min(part, key=lambda i: abs(part[i] - away)): share}


def _between(at: float, low_deg: float, low: int, high_deg: float, high: int) -> Parts:
    """At equal power between two loudspeakers."""
    way = (at - low_deg) / (high_deg - low_deg) * np.pi / 2.0
    return {low: float(np.cos(way)), high: float(np.sin(way))}
