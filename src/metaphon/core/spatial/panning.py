"""Panning: where a direction's sound goes on a loudspeaker layout.

Gains squared always sum to one.
"""

from functools import lru_cache
from itertools import pairwise
from typing import NamedTuple

import numba
import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.spatial import ConvexHull, QhullError

from metaphon.core.errors import InputError
from metaphon.core.spatial.directions import Vectors, unit_vectors, wrap_azimuth
from metaphon.core.spatial.layouts import LEVEL_DEG, TOP_DEG, Layout

Gains = NDArray[np.float64]
_LAYER_DEG = 30.0  # where the layers above and below are
_BEYOND_DEG = 40.0
_GAP_DEG = 150.0
_ALL_ROUND = 0.3  # how far the middle of loudspeakers may lie aside that stand all round
_WIDE_DEG = 175.0


def normalised(gains: Gains) -> Gains:
    """Scale gains (..., channels) so that their squares sum to one."""
    norm = np.sqrt(np.sum(gains**2, axis=-1, keepdims=True))
    result: Gains = gains / np.maximum(norm, 1e-12)
    return result


def constant_power(azimuth_deg: ArrayLike, layout: Layout, elevation_deg: ArrayLike = 0.0) -> Gains:
    """Pan between two neighbouring loudspeakers of a layer, and between two layers, at equal power.

    The gains are the sine and cosine of the way between the two. On a layout without a rear a
    direction behind is heard from its mirror image in front; above or below the last layer it is
    heard from there.

    Parameters
    ----------
    azimuth_deg, elevation_deg
        Angles of one shape, in degrees; left and up are positive.
    layout
        The loudspeakers; the LFE stays at 0.

    Returns
    -------
        Amplitude gains, the shape of the angles plus (channels); their squares sum to one.

    Notes
    -----
        Constant-power law: common practice, no source.

    Examples
    --------
    >>> from metaphon.core.spatial.layouts import layout_named
    >>> constant_power(0.0, layout_named("0+2+0")).round(4).tolist()
    [0.7071, 0.7071]
    """
    azimuth, elevation = np.broadcast_arrays(
        np.asarray(azimuth_deg, dtype=float), np.asarray(elevation_deg, dtype=float)
    )
    azimuth = _in_reach(azimuth, layout)
    heights = sorted({layout.angles_deg[i][1] for i in layout.main})
    gains = np.zeros((*azimuth.shape, layout.channels))
    held = np.clip(elevation, heights[0], heights[-1])[..., None]
    for place, height in enumerate(heights):
        layer = [i for i in layout.main if layout.angles_deg[i][1] == height]
        below, above = heights[max(place - 1, 0)], heights[min(place + 1, len(heights) - 1)]
        ways = [
            np.clip((held - height) / (other - height), 0.0, 1.0)
            for other in (below, above)
            if other != height
        ]
        share = np.prod([np.cos(way * np.pi / 2) for way in ways], axis=0) if ways else 1.0
        gains += share * _round_a_ring(azimuth, layer, layout)
    return np.where(np.abs(gains) < 1e-12, 0.0, gains)


def _round_a_ring(azimuth: Gains, layer: list[int], layout: Layout) -> Gains:
    """Equal power between the two loudspeakers of a layer that stand round each angle."""
    gains = np.zeros((*azimuth.shape, layout.channels))
    if len(layer) == 1:
        gains[..., layer[0]] = 1.0
        return gains
    order = sorted(layer, key=lambda i: layout.angles_deg[i][0])
    for k, a in enumerate(order):
        b = order[(k + 1) % len(order)]
        if layout.angles_deg[a][0] == layout.angles_deg[b][0]:
            continue
        gap = np.mod(layout.angles_deg[b][0] - layout.angles_deg[a][0], 360.0)
        if gap > 180.0 and not surrounds(layout):
            continue
        way = np.mod(azimuth - layout.angles_deg[a][0], 360.0) / gap
        inside = way <= 1.0
        gains[..., a] = np.where(inside, np.cos(way * np.pi / 2), gains[..., a])
        gains[..., b] = np.where(inside, np.sin(way * np.pi / 2), gains[..., b])
    return gains


def vector_pan(azimuth_deg: ArrayLike, elevation_deg: ArrayLike, layout: Layout) -> Gains:
    """Pan a direction between the two or three loudspeakers round it.

    Where a layout has no loudspeaker above or below, an imaginary one there shares its part among
    its neighbours. The gains for the mirrored direction are the mirrored gains.

    Parameters
    ----------
    azimuth_deg, elevation_deg
        Angles of one shape, in degrees; left and up are positive.
    layout
        The loudspeakers.

    Returns
    -------
        Amplitude gains, the shape of the angles plus (channels), LFE always 0; their squares sum to
        one.

    References
    ----------
        V. Pulkki, Virtual sound source positioning using vector base amplitude panning, J. Audio
        Eng. Soc. 45(6), 1997.

    Examples
    --------
    >>> from metaphon.core.spatial.layouts import layout_named
    >>> vector_pan(30.0, 0.0, layout_named("0+5+0")).round(4).tolist()
    [1.0, 0.0, 0.0, 0.0, 0.0, 0.0]
    """
    return pan_vectors(unit_vectors(azimuth_deg, elevation_deg), layout)


def pan_vectors(vectors: Vectors, layout: Layout) -> Gains:
    """As `vector_pan`, for unit vectors.

    Parameters
    ----------
    vectors
        Directions (..., 3), x right, y front, z up, of length 1.
    layout
        The loudspeakers.

    Returns
    -------
        Gains (..., channels), their squares sum to one.
    """
    flat = vectors.reshape(-1, 3)
    if not surrounds(layout):
        if len({layout.angles_deg[i][1] for i in layout.main}) == 1:
            # by how far it lies aside: so nothing jumps straight above
            aside = np.degrees(np.arcsin(np.clip(-vectors[..., 0], -1.0, 1.0)))
            return _front_pan(aside, layout)
        flat = np.column_stack(
            [flat[:, 0], np.abs(flat[:, 1]), flat[:, 2]]
        )  # what lies behind is heard in front
    gains = _facet_gains(flat, layout)
    if layout.mirror is not None:
        gains = normalised(
            gains + _facet_gains(flat * [-1.0, 1.0, 1.0], layout)[:, list(layout.mirror)]
        )
    return gains.reshape(*vectors.shape[:-1], layout.channels)


def surrounds(layout: Layout) -> bool:
    """Whether a layout has loudspeakers behind the ears."""
    return any(abs(layout.angles_deg[i][0]) > 90 for i in layout.main)


def _in_reach(azimuth: Gains, layout: Layout) -> Gains:
    """Fold what lies behind a front-only layout to the front.

    It is held between the outer
    loudspeakers.
    """
    azimuth = wrap_azimuth(azimuth)
    if surrounds(layout):
        return azimuth
    folded = np.degrees(np.arcsin(np.clip(np.sin(np.radians(azimuth)), -1, 1)))
    across = [layout.angles_deg[i][0] for i in layout.main]
    result: Gains = np.clip(folded, min(across), max(across))
    return result


def _front_pan(azimuth: Gains, layout: Layout) -> Gains:
    """Tangent law between neighbours, for layouts with nothing at the sides or behind."""
    azimuth = _in_reach(azimuth, layout)
    gains = np.zeros((*azimuth.shape, layout.channels))
    order = sorted(layout.main, key=lambda i: layout.angles_deg[i][0])
    if len(order) == 1:
        gains[..., order[0]] = 1.0
        return gains
    for right, left in pairwise(order):
        low, high = layout.angles_deg[right][0], layout.angles_deg[left][0]
        half = np.radians((high - low) / 2)
        ratio = np.tan(np.radians(np.clip(azimuth, low, high) - (low + high) / 2)) / np.tan(half)
        inside = (azimuth >= low) & (azimuth <= high)
        pair = normalised(np.stack([1 - ratio, 1 + ratio], axis=-1))
        gains[..., right] = np.where(inside, pair[..., 0], gains[..., right])
        gains[..., left] = np.where(inside, pair[..., 1], gains[..., left])
    return np.where(np.abs(gains) < 1e-12, 0.0, gains)


def _virtual_layers(layout: Layout) -> list[tuple[Gains, Gains]]:
    """Directions where a layer above or below has no loudspeaker, and what each feeds instead.

    Above or below an ear-level loudspeaker that lies more than 40 degrees aside from all of the
    layer, in a gap that is wider than any that is panned across, it is that loudspeaker. Source:
    ITU-R BS.2127-1, section 6.1 (from memory), which speaks of what lies beyond the last.
    """
    found = []
    level = [i for i in layout.main if abs(layout.angles_deg[i][1]) <= LEVEL_DEG]
    for side in (1.0, -1.0):
        ring = sorted(
            layout.angles_deg[i][0]
            for i in layout.main
            if LEVEL_DEG < side * layout.angles_deg[i][1] < TOP_DEG
        )
        for i in level:
            azimuth = layout.angles_deg[i][0]
            before, after = _neighbours(azimuth, ring)
            if min(before, after) > _BEYOND_DEG and before + after > _GAP_DEG:
                place = unit_vectors(azimuth, side * _LAYER_DEG)
                found.append((place, np.eye(layout.channels)[i]))
    return found


def _neighbours(azimuth_deg: float, ring_deg: list[float]) -> tuple[float, float]:
    """How far the next of a ring are to the right and to the left, in degrees."""
    if not ring_deg:
        return 360.0, 360.0
    right = min(np.mod(azimuth_deg - one, 360.0) for one in ring_deg)
    left = min(np.mod(one - azimuth_deg, 360.0) for one in ring_deg)
    return float(right), float(left)


def _virtual_gaps(layout: Layout) -> list[tuple[Gains, Gains]]:
    """Directions in the widest gap of the ear-level ring, and what each feeds instead.

    Where loudspeakers stand on one side only, the rest of the ring goes to the two at its edge.
    """
    level = sorted(
        (i for i in layout.main if abs(layout.angles_deg[i][1]) <= LEVEL_DEG),
        key=lambda i: layout.angles_deg[i][0],
    )
    found = []
    for one, other in zip(level, [*level[1:], *level[:1]], strict=True):
        start = layout.angles_deg[one][0]
        gap = np.mod(layout.angles_deg[other][0] - start, 360.0) or 360.0
        for part in (1.0 / 3.0, 2.0 / 3.0) if gap > _WIDE_DEG else ():
            feed = np.zeros(layout.channels)
            feed[one] += 1.0 - part
            feed[other] += part
            found.append((unit_vectors(start + part * gap, 0.0), np.sqrt(feed)))
    return found


class _Mesh(NamedTuple):
    """Triangles round the listener: their inverted bases, their corners, what each corner feeds."""

    bases: Gains
    triangles: NDArray[np.intp]
    powers: Gains


@lru_cache(maxsize=64)
def _meshes(layout: Layout) -> list[_Mesh]:
    """All ways to cut the faces between the loudspeakers into triangles, evenly chosen.

    Four that stand in a plane can be cut along either diagonal. The gains are the mean of both in
    power, as neither is nearer to the truth.
    """
    virtual = [*_virtual_layers(layout), *_virtual_gaps(layout)]
    real = [layout.vectors[i] for i in layout.main]
    places = real + [place for place, _ in virtual]
    fed = [np.eye(layout.channels)[i] for i in layout.main] + [feed for _, feed in virtual]
    corners, feeds = list(places), list(fed)
    heights = np.array(places)[:, 2]
    for side in (1.0, -1.0):
        if not np.any(side * heights > np.sin(np.radians(TOP_DEG))):
            layer = np.isclose(heights, side * (side * heights).max(), atol=1e-6)
            standing = layer & (np.arange(len(places)) < len(real))
            middle = np.mean(np.array(places)[standing, :2], axis=0) if standing.any() else [1.0]
            if np.linalg.norm(middle) < _ALL_ROUND:
                layer = standing
            power = np.sum(np.array(fed)[layer] ** 2, axis=0)
            corners.append(np.array([0.0, 0.0, side]))
            feeds.append(np.sqrt(power / power.sum()))
    try:
        hull = ConvexHull(np.array(corners))
    except QhullError:
        raise InputError(
            f"{layout.title} has its loudspeakers on one line; set some of them elsewhere."
        ) from None
    faces = _faces(hull)
    count = int(
        np.lcm.reduce(
            [1, *(len(one) // (2 if len(one) == 4 else 1) for one in faces if len(one) > 3)]
        )
    )
    found = []
    for turn in range(count):
        triangles = np.array(
            [
                (one[turn % len(one)], one[(turn + n) % len(one)], one[(turn + n + 1) % len(one)])
                for one in faces
                for n in range(1, len(one) - 1)
            ]
        )
        bases = np.linalg.pinv(np.array(corners)[triangles])
        found.append(_Mesh(bases, triangles, np.array(feeds) ** 2))
    return found


def _faces(hull: ConvexHull) -> list[list[int]]:
    """The corners of each face in order round it; triangles in one plane are one face."""
    planes: dict[tuple[float, ...], set[int]] = {}
    for triangle, plane in zip(hull.simplices, hull.equations, strict=True):
        key = next((one for one in planes if np.allclose(one, plane, atol=1e-7)), tuple(plane))
        planes.setdefault(key, set()).update(triangle.tolist())
    found = []
    for plane, corners in planes.items():
        normal, ordered = np.array(plane[:3]), sorted(corners)
        points = hull.points[ordered] - hull.points[ordered].mean(axis=0)
        across = points[0] / np.linalg.norm(points[0])
        along = np.cross(normal, across)
        turns = np.arctan2(points @ along, points @ across)
        found.append([ordered[n] for n in np.argsort(turns)])
    return found


def _facet_gains(vectors: Vectors, layout: Layout) -> Gains:
    meshes = _meshes(layout)
    flat = np.ascontiguousarray(vectors, dtype=np.float64)
    power = np.zeros((len(vectors), layout.channels))
    for mesh in meshes:
        _facets(flat, mesh.bases, mesh.triangles, mesh.powers, power)
    result: Gains = np.sqrt(power / len(meshes))
    return result


@numba.njit(cache=True, nogil=True)
def _lowest(x, y, z, basis):  # type: ignore[no-untyped-def]
    """The lowest of the three parts of a direction in a triangle; below 0 outside of it."""
    lowest = np.inf
    for c in range(3):
        lowest = min(lowest, x * basis[0, c] + y * basis[1, c] + z * basis[2, c])
    return lowest


@numba.njit(cache=True, nogil=True)
def _facets(vectors, bases, triangles, powers, gains):  # type: ignore[no-untyped-def]
    """Add the powers of unit vectors, (directions, loudspeakers), to those in `gains`.

    `powers` are what each corner gives to each loudspeaker: parts that meet in one add up in power,
    as those of a real one would not.
    """
    weights = np.empty(3)
    best = 0
    for n in range(len(vectors)):
        x, y, z = vectors[n]
        if _lowest(x, y, z, bases[best]) < 1e-9:  # no longer within the triangle of the one before
            highest = -np.inf
            for t in range(len(bases)):
                lowest = _lowest(x, y, z, bases[t])
                if lowest > highest:
                    best, highest = t, lowest
        for c in range(3):
            weight = x * bases[best, 0, c] + y * bases[best, 1, c] + z * bases[best, 2, c]
            weights[c] = weight if weight >= 1e-9 else 0.0
        whole = max((weights**2).sum(), 1e-24)
        for c in range(3):
            for speaker in range(gains.shape[1]):
                gains[n, speaker] += weights[c] ** 2 / whole * powers[triangles[best, c], speaker]
