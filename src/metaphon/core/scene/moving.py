"""Places of several strips changed together: set, turned, tilted, spread, mirrored. Their automation goes with them."""

from collections.abc import Callable, Iterable, Mapping

import numpy as np
from numpy.typing import NDArray

from metaphon.core.errors import InputError
from metaphon.core.scene.conversion import (
    FORMS,
    converted,
    on_sphere,
    place_lanes,
    said_in_own_form,
    sampled_times,
    used_lanes,
    without_lanes,
)
from metaphon.core.scene.gestures import strip_of, thinned_path
from metaphon.core.scene.lanes import with_lane
from metaphon.core.scene.mix import Automation, Breakpoint, Mix, Strip
from metaphon.core.spatial.directions import angles_of, unit_vectors, wrap_azimuth
from metaphon.core.spatial.rotation import turn

Array = NDArray[np.float64]
_WITHIN_DEG = 0.1


def moved(mix: Mix, places: Mapping[str, tuple[float, ...]]) -> Mix:
    """Set azimuth and elevation in degrees, and the distance where it is given, of strips by id.

    Azimuth wraps round, elevation is held at the poles. Raises InputError for one that is locked or whose place is
    automated.
    """
    for strip_id, (azimuth, elevation, *away) in places.items():
        values = {"azimuth_deg": float(wrap_azimuth(azimuth)), "elevation_deg": float(np.clip(elevation, -90.0, 90.0))}
        if away:
            values["distance"] = away[0]
        mix = with_place(mix, strip_id, said_in_own_form(_free(mix, strip_id).placement, "sphere", values))
    return mix


def with_place(mix: Mix, strip_id: str, values: Mapping[str, float]) -> Mix:
    """The mix with fields of a strip's placement set, rounded to what is heard."""
    rounded = {name: round(float(value), 4) for name, value in values.items()}

    def change(strip: Strip) -> Strip:
        if strip.id != strip_id:
            return strip
        return strip.model_copy(update={"placement": strip.placement.model_copy(update=rounded)})

    return mix.with_strips(change)


def _free(mix: Mix, strip_id: str) -> Strip:
    """A strip that may be moved by its still place."""
    strip = strip_of(mix, strip_id)
    if strip.placement.locked:
        raise InputError(f"{strip.name} is locked; unlock it first.")
    if set(place_lanes(mix, strip_id)) & set(FORMS[strip.placement.coordinates][:3]):
        raise InputError(f"{strip.name} moves by automation; turn or mirror it, or take its lane away first.")
    return strip


def turned(mix: Mix, strip_ids: Iterable[str], by_deg: float) -> Mix:
    """Turn strips to the left about the vertical axis; what moves keeps its path, scenes turn as a whole."""
    return _each(mix, strip_ids, lambda m, s: _shifted(m, s, lambda azimuth: azimuth + by_deg))


def mirrored(mix: Mix, strip_ids: Iterable[str]) -> Mix:
    """Exchange left and right of the places of strips; their sound stays as it is."""
    return _each(mix, strip_ids, lambda m, s: _shifted(m, s, lambda azimuth: -azimuth), lambda x: -x)


def tilted(mix: Mix, strip_ids: Iterable[str], pitch_deg: float, roll_deg: float) -> Mix:
    """Tilt strips about the listener: pitch lifts the front, roll lifts the left."""
    matrix = turn(0.0, pitch_deg, roll_deg)
    return _each(mix, strip_ids, lambda m, s: _through(m, s, lambda vectors: vectors @ matrix.T))


def spread(mix: Mix, strip_ids: Iterable[str], factor: float) -> Mix:
    """Draw strips apart (factor above 1) or together about the middle of their directions, keeping their arrangement.

    Raises InputError where they have no middle, as when they stand all round.
    """
    ids = sorted(set(strip_ids))
    middles = [_vectors(mix, strip_of(mix, i))[0].mean(axis=0) for i in ids]
    middle = np.sum(middles, axis=0)
    if np.linalg.norm(middle) < 0.05 * len(ids):
        raise InputError("These stand all round, so they have no middle to draw to; choose fewer.")
    middle = middle / np.linalg.norm(middle)

    def apart(vectors: Array) -> Array:
        away = np.arccos(np.clip(vectors @ middle, -1.0, 1.0))
        aside = vectors - (vectors @ middle)[:, None] * middle
        aside /= np.maximum(np.linalg.norm(aside, axis=1, keepdims=True), 1e-9)
        wanted = np.minimum(away * factor, np.pi * 0.999)[:, None]
        return np.cos(wanted) * middle + np.sin(wanted) * aside

    return _each(mix, ids, lambda m, s: _through(m, s, apart))


Change = Callable[[Mix, Strip], Mix]


def _each(mix: Mix, strip_ids: Iterable[str], change: Change, in_room: Callable[[float], float] | None = None) -> Mix:
    """Put strips through a change of their angles; those said in the room go by way of angles and keep that set.

    `in_room`, where there is one, says what becomes of x instead. Those that are locked stay.
    """
    for strip_id in sorted(set(strip_ids)):
        strip = strip_of(mix, strip_id)
        if strip.placement.locked:
            continue
        if strip.placement.mode == "object" and strip.placement.coordinates == "cube":
            mix = _mapped(mix, strip, in_room) if in_room else _by_angles(mix, strip, change)
        else:
            mix = change(mix, strip)
    return mix


def _by_angles(mix: Mix, strip: Strip, change: Change) -> Mix:
    kept = {name: getattr(strip.placement, name) for name in FORMS["sphere"]}
    lanes = [lane for name, lane in place_lanes(mix, strip.id).items() if name in FORMS["sphere"]]
    on_sphere, _ = converted(mix, [strip.id], "sphere", strip.placement.reference)
    changed, _ = converted(
        change(on_sphere, strip_of(on_sphere, strip.id)), [strip.id], "cube", strip.placement.reference
    )
    changed = without_lanes(changed, strip.id, FORMS["sphere"])
    for lane in lanes:
        changed = with_lane(changed, lane)
    place = strip_of(changed, strip.id).placement.model_copy(update=kept)
    return changed.with_strips(lambda s: s.model_copy(update={"placement": place}) if s.id == strip.id else s)


def _mapped(mix: Mix, strip: Strip, change: Callable[[float], float]) -> Mix:
    """Change x of a place in the room and of its path."""
    lane = place_lanes(mix, strip.id).get("x")
    if lane:
        points = tuple(p.model_copy(update={"value": change(p.value)}) for p in lane.points)
        mix = with_lane(mix, lane.model_copy(update={"points": points}))
    return with_place(mix, strip.id, {"x": change(strip.placement.x)})


def _shifted(mix: Mix, strip: Strip, change: Callable[[float], float]) -> Mix:
    """Change the azimuth of a place and of its path."""
    lane = place_lanes(mix, strip.id).get("azimuth_deg")
    if lane:
        points = tuple(
            p.model_copy(update={"value": round(float(wrap_azimuth(change(p.value))), 4)}) for p in lane.points
        )
        mix = with_lane(mix, lane.model_copy(update={"points": points}))
    return with_place(mix, strip.id, {"azimuth_deg": float(wrap_azimuth(change(strip.placement.azimuth_deg)))})


def _vectors(mix: Mix, strip: Strip) -> tuple[Array, Array]:
    """The directions of a strip's path, (times, 3), and its times; one of each where it stands still."""
    lanes = used_lanes(mix, strip)
    times = sampled_times(lanes.values()) if lanes else np.zeros(1)
    sphere = on_sphere(strip.placement, lanes, times)
    return unit_vectors(sphere[0], sphere[1]), times


def _through(mix: Mix, strip: Strip, change: Callable[[Array], Array]) -> Mix:
    """Put every direction of a place on the sphere and of its path through a change of vectors."""
    place = strip.placement
    azimuth, elevation = angles_of(change(unit_vectors([place.azimuth_deg], [place.elevation_deg])))
    lanes = place_lanes(mix, strip.id)
    if "azimuth_deg" in lanes or "elevation_deg" in lanes:
        vectors, times = _vectors(mix, strip)
        a, e = angles_of(change(vectors))
        a = np.unwrap(a, period=360.0)
        kept = thinned_path(times, a, e, _WITHIN_DEG) if len(times) > 2 else list(range(len(times)))
        for name, row in (("azimuth_deg", wrap_azimuth(a)), ("elevation_deg", e)):
            points = tuple(Breakpoint(t_s=round(float(times[i]), 4), value=round(float(row[i]), 4)) for i in kept)
            mix = with_lane(mix, Automation(target=f"{strip.id}/placement/{name}", points=points))
    return with_place(mix, strip.id, {"azimuth_deg": float(azimuth[0]), "elevation_deg": float(elevation[0])})
