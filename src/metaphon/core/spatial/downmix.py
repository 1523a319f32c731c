"""From one loudspeaker layout to another: the published coefficients, and one rule for the rest.

Sides stay sides. In front of 60 degrees is front, beyond is surround. A loudspeaker goes to the two
of its own part that stand round it, or to the nearest there; a surround that finds no surround goes
to the front at the surround share, a centre that finds none to both sides at the centre share. A
layer that is missing is the one at the level of the ears, at the height share. An LFE goes to the
LFE; where there is none, to left and right at a share of its own, or nowhere.
"""

from collections.abc import Iterable
from functools import lru_cache
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from metaphon.core.spatial.directions import Vectors
from metaphon.core.spatial.layouts import LAYOUTS, LEVEL_DEG, TOP_DEG, Layout, layout_named
from metaphon.core.spatial.panning import pan_vectors, surrounds

HALF_POWER = float(np.sqrt(0.5))
_ALL_ROUND = "4+7+0"  # by whose loudspeakers an object is folded down
_FRONT_DEG = 60.0
_ASIDE_DEG = 22.5  # what lies farther out belongs to its own side

Parts = dict[int, float]  # gains by channel


class Shares(NamedTuple):
    """What is kept of what a layout has no place for, as gains.

    `centre` at each side, `surround` in front, `height` at the level of the ears, `lfe` at each
    side or at each ear.
    """

    centre: float
    surround: float
    height: float
    lfe: float


PUBLISHED = Shares(HALF_POWER, HALF_POWER, 1.0, 0.0)  # ITU-R BS.775-4, table 2


@lru_cache(maxsize=1024)
def conversion(source: str, target: str, shares: Shares = PUBLISHED) -> NDArray[np.float64]:
    """The gains that take one loudspeaker layout to another.

    A channel that both have passes unchanged. Mono is left and right at half power, and the centre.

    Parameters
    ----------
    source, target
        Names of layouts, as `layout_named` knows them.
    shares
        What is kept of what the target has no place for.

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
        matrix[list(other.main)] = sides @ conversion(source, "0+3+0", shares)
        # parts that meet again add up as amplitudes; no channel may come out louder than it was
        matrix /= np.maximum(np.linalg.norm(matrix, axis=0), 1.0)
    else:
        for channel in range(one.channels):
            for there, gain in _parts_of(one, channel, other, shares).items():
                matrix[there, channel] = gain
    matrix.flags.writeable = False
    return matrix


def folded_behind(source: str, target: str) -> NDArray[np.bool_]:
    """Which channels of a layout are surrounds that the other plays in front, (channels)."""
    one, other = layout_named(source), layout_named(target)
    behind = np.abs(np.array(one.angles_deg)[:, 0]) > _FRONT_DEG
    absent = np.array([label not in other.labels for label in one.labels])
    result: NDArray[np.bool_] = behind & absent & ~np.array(one.is_lfe)
    return result if not surrounds(other) else np.zeros_like(result)


def fold_power(vectors: Vectors, layout: Layout, shares: Shares = PUBLISHED) -> NDArray[np.float64]:
    """What a layout keeps of the power of a direction, as it does of a bed's loudspeakers there.

    Parameters
    ----------
    vectors
        Unit vectors, (..., 3).
    layout
        The loudspeakers.
    shares
        What is kept of what the layout has no place for.

    Returns
    -------
        Parts of power, (...): 1 where the layout has surrounds, and heights or their whole share.
    """
    if surrounds(layout) and (shares.height == 1.0 or _has_heights(layout)):
        return np.ones(vectors.shape[:-1])
    kept = np.sum(conversion(_ALL_ROUND, layout.name, shares) ** 2, axis=0)
    result: NDArray[np.float64] = pan_vectors(vectors, LAYOUTS[_ALL_ROUND]) ** 2 @ kept
    return result


def _has_heights(layout: Layout) -> bool:
    return any(layout.angles_deg[i][1] > LEVEL_DEG for i in layout.main)


def _parts_of(source: Layout, channel: int, target: Layout, shares: Shares) -> Parts:
    label = source.labels[channel]
    if label in target.labels:
        return {target.labels.index(label): 1.0}
    if source.is_lfe[channel]:
        if "LFE1" in target.labels:
            return {target.labels.index("LFE1"): 1.0}
        if shares.lfe == 0.0:
            return {}
        sides = [i for i in target.main if abs(target.angles_deg[i][0]) == 30.0] or target.main[:2]
        return dict.fromkeys(sides, shares.lfe)
    azimuth, elevation = source.angles_deg[channel]
    for ring in _rings(elevation, target):
        if ring:
            levels = [target.angles_deg[i][1] for i in ring]
            lost = elevation > LEVEL_DEG and all(e <= LEVEL_DEG for e in levels)
            height = shares.height if lost else 1.0
            parts = _in_ring(azimuth, abs(elevation) >= TOP_DEG, ring, shares)
            return {there: gain * height for there, gain in parts.items()}
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


def _in_ring(azimuth_deg: float, overhead: bool, ring: dict[int, float], shares: Shares) -> Parts:
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
    share = shares.surround if folded else 1.0
    if side == 0.0:
        nearest = min(abs(a - away) for a in part.values())
        found = [i for i, a in part.items() if abs(a - away) == nearest]
        both = shares.centre if azimuth_deg == 0.0 else HALF_POWER
        return dict.fromkeys(found, share if len(found) == 1 else both * share)
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
