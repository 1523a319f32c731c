"""Changing a source's position data between angles and room, with its automation; both sets of data are kept."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from itertools import pairwise
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from metaphon.core.errors import InputError
from metaphon.core.scene.lanes import thinned, values_at, with_lane
from metaphon.core.scene.mix import Automation, Breakpoint, Mix, Placement, Strip
from metaphon.core.spatial.directions import unit_vectors
from metaphon.core.spatial.room_cube import REFERENCES, sizes_to_cube, sizes_to_sphere, to_cube, to_sphere

Coordinates = Literal["sphere", "cube"]
# what says a position in each form; the first three say where, the others how large
FORMS: dict[Coordinates, tuple[str, ...]] = {
    "sphere": ("azimuth_deg", "elevation_deg", "distance", "extent_deg", "extent_height_deg", "extent_depth"),
    "cube": ("x", "y", "z", "extent_x", "extent_y", "extent_z"),
}
_COARSE, _FINE = 64, 800  # steps between two breakpoints, at most
_STEP_S = 0.004
_WITHIN = {"cube": 0.0003, "sphere": 0.02}
_TOLD_DEG = 0.1


@dataclass(frozen=True)
class Converted:
    """What a conversion did to one source: how far it moved at most, and what the new form cannot say."""

    strip: str
    name: str
    moved_deg: float
    lost: tuple[str, ...]


def other_form(coordinates: Coordinates) -> Coordinates:
    return "cube" if coordinates == "sphere" else "sphere"


def positions(placement: Placement, lanes: dict[str, Automation], times_s: NDArray[np.float64]) -> NDArray[np.float64]:
    """What a placement's own form says at times, (6, times), in the order of `FORMS`."""
    found: list[NDArray[np.float64]] = []
    for name in FORMS[placement.coordinates]:
        value = getattr(placement, name)
        if value is None:  # as high as it is wide
            found.append(found[FORMS["sphere"].index("extent_deg")])
        elif name in lanes:
            found.append(values_at(lanes[name].points, times_s, name == "azimuth_deg"))
        else:
            found.append(np.full(len(times_s), float(value)))
    return np.array(found)


def in_form(values: NDArray[np.float64], form: Coordinates, wanted: Coordinates, reference: str) -> NDArray[np.float64]:
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
    head = f"{strip_id}/placement/"
    return {a.target.removeprefix(head): a for a in mix.automation if a.target.startswith(head)}


def used_lanes(mix: Mix, strip: Strip) -> dict[str, Automation]:
    """The lanes that say a strip's position in the form it uses, by parameter."""
    return _lanes_of_form(mix, strip, strip.placement.coordinates)


def _lanes_of_form(mix: Mix, strip: Strip, form: Coordinates) -> dict[str, Automation]:
    return {name: lane for name, lane in place_lanes(mix, strip.id).items() if name in FORMS[form]}


def on_sphere(placement: Placement, lanes: dict[str, Automation], times_s: NDArray[np.float64]) -> NDArray[np.float64]:
    """The position at times as angles, distance and angular size, (6, times), in whatever form it is said."""
    return in_form(positions(placement, lanes, times_s), placement.coordinates, "sphere", placement.reference)


def said_in_own_form(placement: Placement, form: Coordinates, values: Mapping[str, float]) -> dict[str, float]:
    """Position data given in a form, said in the one that a placement uses; what is not given stays.

    Where only the place is given, the sizes are left out.
    """
    if form == placement.coordinates:
        return dict(values)
    there = in_form(positions(placement, {}, np.zeros(1)), placement.coordinates, form, placement.reference)
    for name, value in values.items():
        there[FORMS[form].index(name)] = value
    count = None if any(name in FORMS[form][3:] for name in values) else 3
    found = in_form(there, form, placement.coordinates, placement.reference)
    if placement.coordinates == "cube":
        found = np.clip(found, -1.0, 1.0)
    return dict(zip(FORMS[placement.coordinates][:count], map(float, found[:count, 0]), strict=True))


def without_lanes(mix: Mix, strip_id: str, names: Iterable[str]) -> Mix:
    """The mix without lanes of a strip's placement, named by their parameters."""
    gone = {f"{strip_id}/placement/{name}" for name in names}
    return mix.model_copy(update={"automation": tuple(a for a in mix.automation if a.target not in gone)})


def converted(mix: Mix, strip_ids: Iterable[str], wanted: Coordinates, reference: str) -> tuple[Mix, list[Converted]]:
    """Say the positions of objects in another form, automation included, and tell what that did to each.

    What was said in the old form stays in the mix and is not used. Raises InputError for an unknown reference.
    """
    if reference not in REFERENCES:
        raise InputError(f"There is no reference {reference}; use one of {', '.join(REFERENCES)}.")
    told = []
    ids = set(strip_ids)
    for strip in mix.strips:
        if strip.id in ids and strip.placement.mode == "object" and strip.placement.coordinates != wanted:
            mix, one = _convert(mix, strip, wanted, reference)
            told.append(one)
    return mix, told


def returned(mix: Mix, strip_ids: Iterable[str]) -> Mix:
    """Use the other set of position data that is kept, as it is."""
    ids = set(strip_ids)

    def change(strip: Strip) -> Strip:
        if strip.id not in ids or strip.placement.mode != "object":
            return strip
        form = other_form(strip.placement.coordinates)
        return strip.model_copy(update={"placement": strip.placement.model_copy(update={"coordinates": form})})

    return mix.with_strips(change)


def _convert(mix: Mix, strip: Strip, wanted: Coordinates, reference: str) -> tuple[Mix, Converted]:
    place, form = strip.placement, strip.placement.coordinates
    lanes = used_lanes(mix, strip)
    still = in_form(positions(place, {}, np.zeros(1)), form, wanted, reference)
    names = FORMS[wanted]
    held = _held(still, wanted)
    values = {name: round(float(v), 6) for name, v in zip(names, held[:, 0], strict=True)}
    placement = place.model_copy(update={**values, "coordinates": wanted, "reference": reference})
    mix = without_lanes(mix, strip.id, names)
    before, after = positions(place, {}, np.zeros(1)), held
    if lanes:
        times = sampled_times(lanes.values(), _FINE)
        before = positions(place, lanes, times)
        after = _held(in_form(before, form, wanted, reference), wanted)
        if wanted == "sphere":
            after[0] = np.degrees(np.unwrap(np.radians(_steady(after[0], after[1]))))
        for name, row in zip(names, after, strict=True):
            if np.ptp(row) > 1e-9:
                points = tuple(
                    Breakpoint(t_s=round(float(t), 4), value=round(float(v), 5))
                    for t, v in zip(times, row, strict=True)
                )
                within = _WITHIN[wanted] if not name.startswith("extent") else 10 * _WITHIN[wanted]
                lane = Automation(target=f"{strip.id}/placement/{name}", points=points)
                mix = with_lane(mix, thinned(lane, within))
    changed = mix.with_strips(lambda s: s.model_copy(update={"placement": placement}) if s.id == strip.id else s)
    moved = _apart(before, form, after, wanted, reference)
    return changed, Converted(strip.id, strip.name, round(moved, 2), tuple(_lost(before, form, after, place, moved)))


def _held(values: NDArray[np.float64], form: Coordinates) -> NDArray[np.float64]:
    """Within what a form can say: a room ends at its walls."""
    found = values.copy()
    if form == "cube":
        found[:3] = np.clip(found[:3], -1.0, 1.0)
        found[3:] = np.clip(found[3:], 0.0, 1.0)
    return found


def _steady(azimuth: NDArray[np.float64], elevation: NDArray[np.float64]) -> NDArray[np.float64]:
    """Straight above or below no azimuth counts: the last one that did is kept, so that nothing spins there."""
    found = azimuth.copy()
    counts = np.abs(elevation) < 89.99
    if not counts.any():
        return found
    last = np.maximum.accumulate(np.where(counts, np.arange(len(found)), -1))
    last[last < 0] = int(np.argmax(counts))
    return found[last]


def sampled_times(lanes: Iterable[Automation], most_steps: int = _COARSE) -> NDArray[np.float64]:
    """Times at which lanes are looked at: every breakpoint, and so many steps of 4 ms or more in between."""
    marks = sorted({p.t_s for lane in lanes for p in lane.points})
    found = [np.array(marks[:1])]
    for first, last in pairwise(marks):
        count = int(np.clip(np.ceil((last - first) / _STEP_S), 1, most_steps))
        found.append(np.linspace(first, last, count + 1)[1:])
    return np.concatenate(found)


def directions_of(values: NDArray[np.float64], form: Coordinates, reference: str) -> NDArray[np.float64]:
    """Unit vectors, (times, 3), of position data of a form."""
    sphere = in_form(values, form, "sphere", reference)
    return unit_vectors(sphere[0], sphere[1])


def _apart(
    before: NDArray[np.float64], form: Coordinates, after: NDArray[np.float64], wanted: Coordinates, reference: str
) -> float:
    """The largest change of direction; what lies in the middle has none."""
    one, other = directions_of(before, form, reference), directions_of(after, wanted, reference)
    away = in_form(before, form, "sphere", reference)[2]
    angles = np.degrees(np.arccos(np.clip(np.sum(one * other, axis=-1), -1.0, 1.0)))
    return float(np.max(np.where(away > 1e-3, angles, 0.0)))


def _lost(
    before: NDArray[np.float64], form: Coordinates, after: NDArray[np.float64], place: Placement, moved: float
) -> Iterable[str]:
    sphere = before if form == "sphere" else after
    if form == "sphere" and np.any(before[2] > 1.0 + 1e-6):
        yield "outside the room: held at its walls"
    if np.any(sphere[1] < -_TOLD_DEG):
        yield "below the listener: the reference has no loudspeaker there"
    if np.any(sphere[2] < 0.995) and place.on_sphere:
        yield "inside the room: moved out to the sphere"
    if form == "sphere" and np.any(before[2] < 0.995) and not place.on_sphere:
        yield "inside the room: heard from its place instead of wider"
    if np.any(before[3:] > 1e-6):
        yield "extent: said as sizes along the walls" if form == "sphere" else "extent: said as angles"
    if moved > _TOLD_DEG:
        yield f"direction: up to {moved:.1f}°"


def kept_apart_deg(mix: Mix, strip: Strip) -> float | None:
    """How far the set of position data that is kept lies from the one that is used; None where none was ever said."""
    place = strip.placement
    form, other = place.coordinates, other_form(place.coordinates)
    own, kept = used_lanes(mix, strip), _lanes_of_form(mix, strip, other)
    untouched = all(getattr(place, n) == Placement.model_fields[n].default for n in FORMS[other])
    if untouched and not kept:
        return None
    times = sampled_times([*own.values(), *kept.values()]) if own or kept else np.zeros(1)
    used = positions(place, own, times)
    aside = positions(place.model_copy(update={"coordinates": other}), kept, times)
    return _apart(used, form, aside, other, place.reference)


def without_kept(mix: Mix, strip_id: str) -> Mix:
    """The mix without the lanes of a strip's position data that are kept and not used."""
    strip = next((one for one in mix.strips if one.id == strip_id), None)
    if strip is None:
        raise InputError("This track is no longer in the mix.")
    return without_lanes(mix, strip_id, FORMS[other_form(strip.placement.coordinates)])
