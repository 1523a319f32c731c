"""Where the power of an object comes from at any time.

One or many directions or places, and the gains they make.
"""

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from metaphon.core.document.mix import Placement
from metaphon.core.document.positions import in_form
from metaphon.core.engine.automation import Curve
from metaphon.core.spatial.ambisonics import encode
from metaphon.core.spatial.cube_panning import cube_pan, cube_positions
from metaphon.core.spatial.directions import Vectors, angles_of, unit_vectors
from metaphon.core.spatial.downmix import PUBLISHED, Shares, fold_power
from metaphon.core.spatial.extent import COARSE, FINE, Rows, around, inside, seen_from_within
from metaphon.core.spatial.layouts import Layout
from metaphon.core.spatial.panning import pan_vectors
from metaphon.core.spatial.room_cube import OUT_IN_ROOM_DEG
from metaphon.core.spatial.zones import left_open, part_of, shares_of_open

Array = NDArray[np.float64]
_KEPT = 64  # answers for all targets: each asks for the same object at the same times


@dataclass(frozen=True)
class ObjectPosition:
    """All that says where an object is, over time.

    `position` are the six curves of the form its placement uses (`FORMS`); `offsets_deg` the angles
    of each channel of the source against its middle.
    """

    placement: Placement
    position: tuple[Curve, ...]
    pair_deg: Curve
    divergence: Curve
    diffuseness: Curve
    offsets_deg: tuple[tuple[float, float], ...]

    @property
    def curves(self) -> tuple[Curve, ...]:
        """All that may move of it."""
        return (*self.position, self.pair_deg, self.divergence, self.diffuseness)

    @property
    def moves(self) -> bool:
        """Whether it changes in time."""
        return any(curve.moves for curve in self.curves)

    @property
    def has_size(self) -> bool:
        """Whether it may ever be more than a point: by its size, or because it is near."""
        near = self.placement.coordinates == "cube" or bool(np.any(self.position[2].values < 1.0))
        grows = any(bool(np.any(curve.values > 0.0)) for curve in self.position[3:])
        return grows or (near and not self.placement.on_sphere)

    @property
    def is_wide(self) -> bool:
        """Whether it may ever come from several directions at once."""
        return self.has_size or bool(np.any(self.divergence.values > 0.0))

    @property
    def is_diffuse(self) -> bool:
        """Whether any of it ever loses its direction."""
        return bool(np.any(self.diffuseness.values > 0.0))

    def values_at(self, times_s: Array) -> Array:
        """The six values of the position, (6, times)."""
        return np.array([curve.at(times_s) for curve in self.position])

    def on_sphere_at(self, times_s: Array) -> Array:
        """The position as angles, distance and angular size, (6, times).

        Whatever form it is said in.
        """
        place = self.placement
        return in_form(self.values_at(times_s), place.coordinates, "sphere", place.reference)


def direct_and_diffuse(where: ObjectPosition, times_s: Array) -> tuple[Array, Array]:
    """The gains of what keeps its direction and of what has lost it.

    Parameters
    ----------
    where
        All that says where the object is, over time.
    times_s
        Seconds from the beginning of the mix, (times).

    Returns
    -------
        Two gains, (times) each; their squares sum to one.
    """
    diffuse = np.clip(where.diffuseness.at(times_s), 0.0, 1.0)
    return np.sqrt(1.0 - diffuse), np.sqrt(diffuse)


def layout_gains(
    where: ObjectPosition, layout: Layout, times_s: Array, shares: Shares = PUBLISHED
) -> Array:
    """The gains of an object on loudspeakers.

    Parameters
    ----------
    where
        All that says where it is, over time.
    layout
        The loudspeakers.
    times_s
        Seconds from the beginning of the mix, (times).
    shares
        What is kept of what the layout has no place for.

    Returns
    -------
        Amplitude gains, (times, channels of the layout, channels of the object); their squares
        sum to one, or on layouts without surrounds or heights to what is kept of a bed there.
    """
    excluded = where.placement.excluded
    open_ones = left_open(layout, excluded)
    snapping = layout if open_ones == layout.main else part_of(layout, open_ones)
    if where.placement.coordinates == "cube":
        places, weights = _in_room(where, snapping, times_s)
        power = np.einsum("n,tcnl->tlc", weights, cube_pan(places, layout) ** 2)
    else:
        vectors, weights = _directions(where, times_s, FINE, snapping)
        power = np.einsum("n,tcnl->tlc", weights, pan_vectors(vectors, layout) ** 2)
        if vectors.shape[2] > 1:
            power /= np.maximum(power.sum(axis=1, keepdims=True), 1e-12)
    kept = fold_power(unit_vectors(*_middles(where, times_s)), layout, shares)
    power *= kept[:, None]
    if snapping is not layout:
        power = shares_of_open(layout, excluded) @ power
    result: Array = np.sqrt(power)
    return result


def scene_gains(where: ObjectPosition, order: int, times_s: Array) -> Array:
    """The gains of an object in an ambisonic scene.

    Parameters
    ----------
    where
        All that says where it is, over time.
    order
        Of the scene, 1 to 7.
    times_s
        Seconds from the beginning of the mix, (times).

    Returns
    -------
        AmbiX gains, (times, channels of the scene, channels of the object).
    """
    vectors, weights = _directions(where, times_s, FINE)
    result: Array = np.einsum("n,tcnk->tkc", weights, encode(*angles_of(vectors), order))
    return result


def head_directions(where: ObjectPosition, times_s: Array) -> tuple[Vectors, Array]:
    """Where a head hears an object from.

    Directions as unit vectors, (times, channels, count, 3), and the part of the power that comes
    from each, (count).
    """
    return _directions(where, times_s, COARSE)


def _middles(where: ObjectPosition, times_s: Array) -> tuple[Array, Array]:
    """Azimuth and elevation of the middle of each channel, (times, channels) each."""
    return _middles_at(where, times_s.tobytes())


@lru_cache(_KEPT)
def _middles_at(where: ObjectPosition, times: bytes) -> tuple[Array, Array]:
    azimuth, elevation = _seen(where, np.frombuffer(times))[:2]
    return azimuth, elevation


def _seen(where: ObjectPosition, times_s: Array) -> Array:
    """Azimuth, elevation, distance, width, height and depth of each channel, (6, times, channels).

    In a room channels stand aside of each other along its width, round the listener by an angle.
    """
    place = where.placement
    offsets = np.array(where.offsets_deg)
    spread = where.pair_deg.at(times_s)[:, None] / 60.0
    values = np.repeat(where.values_at(times_s)[:, :, None], len(offsets), axis=2)
    if place.coordinates == "cube":
        values[:3] = np.moveaxis(_stands_in_room(where, times_s), -1, 0)
        flat = in_form(values.reshape(6, -1), "cube", "sphere", place.reference)
        return np.asarray(flat.reshape(values.shape))
    values[0] += offsets[:, 0] * spread
    values[1] = np.clip(values[1] + offsets[:, 1], -90.0, 90.0)
    return values


def _stands_in_room(where: ObjectPosition, times_s: Array) -> Array:
    """The place of each channel in the room, (times, channels, 3)."""
    offsets = np.array(where.offsets_deg)
    spread = where.pair_deg.at(times_s)[:, None] / 60.0
    middle = np.moveaxis(where.values_at(times_s)[:3], 0, -1)[:, None, :]
    middle = np.repeat(middle, len(offsets), axis=1)
    middle[:, :, 0] = np.clip(middle[:, :, 0] - offsets[:, 0] * spread / OUT_IN_ROOM_DEG, -1.0, 1.0)
    if where.placement.on_sphere:
        middle = middle / np.maximum(np.abs(middle).max(axis=-1, keepdims=True), 1e-9)
    return middle


def _directions(
    where: ObjectPosition, times_s: Array, rows: Rows, snapping: Layout | None = None
) -> tuple[Vectors, Array]:
    snaps_to = snapping if where.placement.snap else None
    return _directions_at(where, times_s.tobytes(), rows, snaps_to)


@lru_cache(_KEPT)
def _directions_at(
    where: ObjectPosition, times: bytes, rows: Rows, snapping: Layout | None
) -> tuple[Vectors, Array]:
    place, times_s = where.placement, np.frombuffer(times)
    azimuth, elevation, distance, width, height, depth = _seen(where, times_s)
    if place.snap and snapping is not None:
        azimuth, elevation = _snapped(azimuth, elevation, snapping)
    aside, weights = _diverged(where, times_s)
    away = np.ones_like(distance) if place.on_sphere else distance
    shells = [away]
    if where.position[5].values.any() and not place.on_sphere and where.has_size:
        shells = [np.maximum(away - depth / 2.0, 0.0), away + depth / 2.0]
    whole = np.any(away != 1.0) or len(shells) > 1
    found, parts = [], []
    for turned, weight in zip(aside, weights, strict=True):
        for shell in shells:
            wide = (
                (seen_from_within(width, shell), seen_from_within(height, shell))
                if whole
                else (width, height)
            )
            found.append(
                around(
                    azimuth + turned[:, None],
                    elevation,
                    wide[0],
                    wide[1],
                    rows if where.has_size else (),
                )
            )
            parts.append(np.full(found[-1].shape[2], weight / len(shells) / found[-1].shape[2]))
    return np.concatenate(found, axis=2), np.concatenate(parts)


def _diverged(where: ObjectPosition, times_s: Array) -> tuple[list[Array], Array]:
    """How far aside each part of the sound is, in degrees, and its part of the power.

    Source: ITU-R BS.2127-1, section 7.3.7 (divergence; from memory).
    """
    still = np.zeros(len(times_s))
    amount = where.divergence.at(times_s)
    if not where.divergence.values.any():
        return [still], np.ones(1)
    d = float(np.mean(amount)) if not where.divergence.moves else None
    reach = where.placement.divergence_range_deg
    if d is not None:
        return [still, still + reach, still - reach], np.array(
            [(1.0 - d) / (1.0 + d), d / (1.0 + d), d / (1.0 + d)]
        )
    # one that moves opens like a fan: the parts are even, their angle grows
    return [still, amount * reach, -amount * reach], np.full(3, 1.0 / 3.0)


def _snapped(azimuth: Array, elevation: Array, layout: Layout) -> tuple[Array, Array]:
    """The direction of the nearest loudspeaker instead of each; of two as near, the first."""
    main = list(layout.main)
    near = np.argmax(
        np.round(unit_vectors(azimuth, elevation) @ layout.vectors[main].T, 9), axis=-1
    )
    angles = np.array(layout.angles_deg)[main][near]
    return angles[..., 0], angles[..., 1]


def _in_room(where: ObjectPosition, layout: Layout, times_s: Array) -> tuple[Array, Array]:
    place = where.placement
    values = where.values_at(times_s)
    middle = _stands_in_room(where, times_s)
    if place.snap:
        stands = cube_positions(layout)[list(layout.main)]
        near = np.argmin(
            np.round(np.sum((middle[..., None, :] - stands) ** 2, axis=-1), 9), axis=-1
        )
        middle = stands[near]
    sizes = np.moveaxis(values[3:], 0, -1)[:, None, :] * 2.0
    aside, weights = _diverged(where, times_s)
    found, parts = [], []
    for turned, weight in zip(aside, weights, strict=True):
        step = np.zeros_like(middle)
        step[..., 0] = -turned[:, None] / OUT_IN_ROOM_DEG
        found.append(inside(np.clip(middle + step, -1.0, 1.0), sizes, where.has_size))
        parts.append(np.full(found[-1].shape[2], weight / found[-1].shape[2]))
    return np.concatenate(found, axis=2), np.concatenate(parts)
