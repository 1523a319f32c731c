"""Where a source is, in whatever form it is said: angles or a place in a room.

With its automation, at any time.
"""

from collections.abc import Iterable, Mapping
from itertools import pairwise
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from metaphon.core.document.lanes import lanes_of, values_at
from metaphon.core.document.mix import Automation, Mix, Placement, Strip
from metaphon.core.spatial.directions import unit_vectors
from metaphon.core.spatial.room_cube import (
    REFERENCES,
    sizes_to_cube,
    sizes_to_sphere,
    to_cube,
    to_sphere,
)

Coordinates = Literal["sphere", "cube"]
Array = NDArray[np.float64]
# what says a position in each form; the first three say where, the others how large
FORMS: dict[Coordinates, tuple[str, ...]] = {
    "sphere": (
        "azimuth_deg",
        "elevation_deg",
        "distance",
        "extent_deg",
        "extent_height_deg",
        "extent_depth",
    ),
    "cube": ("x", "y", "z", "extent_x", "extent_y", "extent_z"),
}
_STEP_S = 0.004
_COARSE = 64  # steps between two breakpoints, at most


def other_form(coordinates: Coordinates) -> Coordinates:
    """The form that is not this one."""
    return "cube" if coordinates == "sphere" else "sphere"


def positions(placement: Placement, lanes: dict[str, Automation], times_s: Array) -> Array:
    """What a placement's own form says at times, (6, times), in the order of `FORMS`."""
    found: list[Array] = []
    for name in FORMS[placement.coordinates]:
        value = getattr(placement, name)
        if value is None:  # as high as it is wide
            found.append(found[FORMS["sphere"].index("extent_deg")])
        elif name in lanes:
            found.append(values_at(lanes[name].points, times_s, name == "azimuth_deg"))
        else:
            found.append(np.full(len(times_s), float(value)))
    return np.array(found)


def in_form(values: Array, form: Coordinates, wanted: Coordinates, reference: str) -> Array:
    """Position data, (6, times), of one form in another."""
    if form == wanted:
        return values
    room = REFERENCES[reference]
    if wanted == "cube":
        azimuth, elevation, distance, width, height, depth = values
        in_room = sizes_to_cube(azimuth, elevation, width, height, depth)
        return np.array([*to_cube(azimuth, elevation, distance, room), *in_room])
    x, y, z, *sizes = values
    azimuth, elevation, distance = to_sphere(x, y, z, room)
    return np.array([azimuth, elevation, distance, *sizes_to_sphere(azimuth, elevation, *sizes)])


def place_lanes(mix: Mix, strip_id: str) -> dict[str, Automation]:
    """The lanes of a strip's placement by parameter."""
    found = lanes_of(mix, strip_id).items()
    return {
        path.removeprefix("placement/"): lane
        for path, lane in found
        if path.startswith("placement/")
    }


def used_lanes(mix: Mix, strip: Strip) -> dict[str, Automation]:
    """The lanes that say a strip's position in the form it uses, by parameter."""
    return _lanes_of_form(mix, strip, strip.placement.coordinates)


def _lanes_of_form(mix: Mix, strip: Strip, form: Coordinates) -> dict[str, Automation]:
    return {name: lane for name, lane in place_lanes(mix, strip.id).items() if name in FORMS[form]}


def on_sphere(placement: Placement, lanes: dict[str, Automation], times_s: Array) -> Array:
    """The position at times as angles, distance and angular size, (6, times)."""
    return in_form(
        positions(placement, lanes, times_s), placement.coordinates, "sphere", placement.reference
    )


def in_own_form(
    placement: Placement, form: Coordinates, values: Mapping[str, float]
) -> dict[str, float]:
    """Position data given in a form, said in the one that a placement uses.

    What is not given stays.

    Where only the place is given, the sizes are left out.
    """
    if form == placement.coordinates:
        return dict(values)
    there = in_form(
        positions(placement, {}, np.zeros(1)), placement.coordinates, form, placement.reference
    )
    for name, value in values.items():
        there[FORMS[form].index(name)] = value
    count = None if any(name in FORMS[form][3:] for name in values) else 3
    found = in_form(there, form, placement.coordinates, placement.reference)
    if placement.coordinates == "cube":
        found = np.clip(found, -1.0, 1.0)
    return dict(
        zip(FORMS[placement.coordinates][:count], map(float, found[:count, 0]), strict=True)
    )


def sampled_times(lanes: Iterable[Automation], most_steps: int = _COARSE) -> Array:
    """Times at which lanes are looked at.

    Every breakpoint, and so many steps of 4 ms or more in between.
    """
    marks = np.unique(np.concatenate([lane.points.times_s for lane in lanes]))
    found = [marks[:1]]
    for first, last in pairwise(marks):
        count = int(np.clip(np.ceil((last - first) / _STEP_S), 1, most_steps))
        found.append(np.linspace(first, last, count + 1)[1:])
    return np.concatenate(found)


def path_times(placement: Placement, lanes: Mapping[str, Automation]) -> Array:
    """The times at which a path bends.

    Between two of them azimuth, elevation and distance run straight.
    """
    if placement.coordinates == "sphere" and all(
        lane.points.is_straight for lane in lanes.values()
    ):
        return np.unique(np.concatenate([lane.points.times_s for lane in lanes.values()]))
    return sampled_times(lanes.values())


def directions_of(values: Array, form: Coordinates, reference: str) -> Array:
    """Unit vectors, (times, 3), of position data of a form."""
    sphere = in_form(values, form, "sphere", reference)
    return unit_vectors(sphere[0], sphere[1])


def direction_change_deg(
    before: Array, form: Coordinates, after: Array, wanted: Coordinates, reference: str
) -> float:
    """The largest change of direction; what lies in the middle has none."""
    one, other = directions_of(before, form, reference), directions_of(after, wanted, reference)
    away = in_form(before, form, "sphere", reference)[2]
    angles = np.degrees(np.arccos(np.clip(np.sum(one * other, axis=-1), -1.0, 1.0)))
    return float(np.max(np.where(away > 1e-3, angles, 0.0)))


def kept_apart_deg(mix: Mix, strip: Strip) -> float | None:
    """How far the set of position data that is kept lies from the one that is used.

    None where none was ever said.
    """
    place = strip.placement
    form, other = place.coordinates, other_form(place.coordinates)
    own, kept = used_lanes(mix, strip), _lanes_of_form(mix, strip, other)
    untouched = all(getattr(place, n) == Placement.model_fields[n].default for n in FORMS[other])
    if untouched and not kept:
        return None
    times = sampled_times([*own.values(), *kept.values()]) if own or kept else np.zeros(1)
    used = positions(place, own, times)
    aside = positions(place.model_copy(update={"coordinates": other}), kept, times)
    return direction_change_deg(used, form, aside, other, place.reference)
