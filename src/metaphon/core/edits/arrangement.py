"""Places of several strips changed together: set, turned, tilted, spread, mirrored.

Their automation goes with them.
"""

from collections.abc import Callable, Iterable, Mapping
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from metaphon.core.document.breakpoints import Breakpoints
from metaphon.core.document.lanes import with_lane
from metaphon.core.document.mix import Automation, Mix, Placement, Strip
from metaphon.core.document.part import Identifier, TimeS
from metaphon.core.document.positions import (
    FORMS,
    on_sphere,
    place_lanes,
    sampled_times,
    used_lanes,
)
from metaphon.core.document.thinning import thinned_directions
from metaphon.core.document.value_paths import within
from metaphon.core.edits.command import Command, Strips, changed, names, strip_of
from metaphon.core.edits.position_forms import converted, without_place_lanes
from metaphon.core.edits.values import positioned
from metaphon.core.errors import InputError
from metaphon.core.spatial.directions import angles_of, unit_vectors, wrap_azimuth
from metaphon.core.spatial.layouts import LAYOUTS
from metaphon.core.spatial.rotation import turn

Array = NDArray[np.float64]
_WITHIN_DEG = 0.1
_ANGLE: dict[str, Any] = {"ge": -180.0, "le": 180.0, "json_schema_extra": {"unit": "°"}}


class Place(Command):
    """Make strips a bed of a layout, an object, a scene, or none of these."""

    kind: Literal["place"] = "place"
    strips: Strips
    mode: str = Field(description="The name of a bed's layout (0+5+0), or object, scene, none.")

    def apply(self, mix: Mix) -> Mix:
        values = self._values()
        return changed(
            mix, self.strips, lambda s: {"placement": s.placement.model_copy(update=values)}
        )

    def describe(self, mix: Mix) -> str:
        values = self._values()
        shown = (
            f"{LAYOUTS[values['layout']].everyday} bed" if "layout" in values else values["mode"]
        )
        return f"{names(mix, self.strips)}: placed as {shown}"

    def _values(self) -> dict[str, str]:
        if self.mode in LAYOUTS:
            return {"mode": "bed", "layout": self.mode}
        if self.mode not in ("bed", "object", "scene", "none"):
            raise InputError("Place a track as bed, object, scene or none.")
        return {"mode": self.mode}


class Move(Command):
    """Set the places of strips: azimuth and elevation, and the distance where it is given.

    Azimuth wraps round, elevation is held at the poles. What is locked is refused; what moves by
    automation has its whole path moved, so that it is there at `at_s`.
    """

    kind: Literal["move"] = "move"
    places: dict[Identifier, tuple[float, float] | tuple[float, float, float]] = Field(
        min_length=1, description="Degrees (and distance) by the ids of strips."
    )
    at_s: TimeS = Field(0.0, description="When it was seen there, where automation moves it.")

    def apply(self, mix: Mix) -> Mix:
        for strip_id, (azimuth, elevation, *distance) in self.places.items():
            strip = strip_of(mix, strip_id)
            values = {
                "azimuth_deg": float(wrap_azimuth(azimuth)),
                "elevation_deg": _held("elevation_deg", elevation),
            }
            if distance:
                values["distance"] = _held("distance", distance[0])
            mix = positioned(mix, strip, values, self.at_s)
        return mix

    def describe(self, mix: Mix) -> str:
        strip_id, (azimuth, elevation, *_) = next(iter(self.places.items()))
        if len(self.places) == 1:
            return f"{strip_of(mix, strip_id).name} at {azimuth:.0f}°, {elevation:.0f}°"
        return f"Moved {names(mix, self.places)}"


class Turn(Command):
    """Turn strips to the left about the vertical axis.

    What moves keeps its path, scenes turn as a whole.
    """

    kind: Literal["turn"] = "turn"
    strips: Strips
    by_deg: float = Field(**_ANGLE)

    def apply(self, mix: Mix) -> Mix:
        return _each(
            mix, self.strips, lambda m, s: _shifted(m, s, lambda azimuth: azimuth + self.by_deg)
        )

    def describe(self, mix: Mix) -> str:
        return f"{names(mix, self.strips)}: turned by {self.by_deg:.0f}°"


class Mirror(Command):
    """Exchange left and right of the places of strips; their sound stays as it is."""

    kind: Literal["mirror"] = "mirror"
    strips: Strips

    def apply(self, mix: Mix) -> Mix:
        return _each(
            mix, self.strips, lambda m, s: _shifted(m, s, lambda azimuth: -azimuth), lambda x: -x
        )

    def describe(self, mix: Mix) -> str:
        return f"{names(mix, self.strips)}: left and right exchanged"


class Tilt(Command):
    """Tilt strips about the listener: pitch lifts the front, roll lifts the left."""

    kind: Literal["tilt"] = "tilt"
    strips: Strips
    pitch_deg: float = Field(0.0, **_ANGLE)
    roll_deg: float = Field(0.0, **_ANGLE)

    def apply(self, mix: Mix) -> Mix:
        matrix = turn(0.0, self.pitch_deg, self.roll_deg)
        return _each(
            mix, self.strips, lambda m, s: _through(m, s, lambda vectors: vectors @ matrix.T)
        )

    def describe(self, mix: Mix) -> str:
        subject = names(mix, self.strips)
        return (
            f"{subject}: tilted by {self.pitch_deg:.0f}°"
            if self.pitch_deg
            else f"{subject}: rolled by {self.roll_deg:.0f}°"
        )


class Spread(Command):
    """Draw strips apart (factor above 1) or together about the middle of their directions."""

    kind: Literal["spread"] = "spread"
    strips: Strips
    factor: float = Field(ge=0.0, le=10.0)

    def apply(self, mix: Mix) -> Mix:
        ids = sorted(set(self.strips))
        middle = np.sum([_vectors(mix, strip_of(mix, i))[0].mean(axis=0) for i in ids], axis=0)
        if np.linalg.norm(middle) < 0.05 * len(ids):
            raise InputError(
                "These stand all round, so they have no middle to draw to; choose fewer."
            )
        middle = middle / np.linalg.norm(middle)

        def apart(vectors: Array) -> Array:
            away = np.arccos(np.clip(vectors @ middle, -1.0, 1.0))
            aside = vectors - (vectors @ middle)[:, None] * middle
            aside /= np.maximum(np.linalg.norm(aside, axis=1, keepdims=True), 1e-9)
            wanted = np.minimum(away * self.factor, np.pi * 0.999)[:, None]
            return np.asarray(np.cos(wanted) * middle + np.sin(wanted) * aside)

        return _each(mix, ids, lambda m, s: _through(m, s, apart))

    def describe(self, mix: Mix) -> str:
        return f"{names(mix, self.strips)}: drawn apart by {self.factor:g}"


def _held(name: str, value: float) -> float:
    """A value of a placement, held within its range."""
    return float(within(Placement.model_fields[name], value))


def with_place(mix: Mix, strip_id: str, values: Mapping[str, float]) -> Mix:
    """The mix with fields of a strip's placement set, rounded to what is heard."""
    rounded = {name: round(float(value), 4) for name, value in values.items()}
    return changed(mix, [strip_id], lambda s: {"placement": s.placement.model_copy(update=rounded)})


Change = Callable[[Mix, Strip], Mix]


def _each(
    mix: Mix, strip_ids: Iterable[str], change: Change, in_room: Callable[[Any], Any] | None = None
) -> Mix:
    """Put strips through a change of their angles.

    Those said in the room go by way of angles and keep that set.

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
    in_cube, _ = converted(
        change(on_sphere, strip_of(on_sphere, strip.id)),
        [strip.id],
        "cube",
        strip.placement.reference,
    )
    in_cube = without_place_lanes(in_cube, strip.id, FORMS["sphere"])
    for lane in lanes:
        in_cube = with_lane(in_cube, lane)
    return changed(
        in_cube, [strip.id], lambda s: {"placement": s.placement.model_copy(update=kept)}
    )


def _mapped(mix: Mix, strip: Strip, change: Callable[[Any], Any]) -> Mix:
    """Change x of a place in the room and of its path."""
    lane = place_lanes(mix, strip.id).get("x")
    if lane:
        mix = with_lane(
            mix,
            lane.model_copy(update={"points": lane.points.with_values(change(lane.points.values))}),
        )
    return with_place(mix, strip.id, {"x": float(change(np.float64(strip.placement.x)))})


def _shifted(mix: Mix, strip: Strip, change: Callable[[Any], Any]) -> Mix:
    """Change the azimuth of a place and of its path."""
    lane = place_lanes(mix, strip.id).get("azimuth_deg")
    if lane:
        points = lane.points.with_values(np.round(wrap_azimuth(change(lane.points.values)), 4))
        mix = with_lane(mix, lane.model_copy(update={"points": points}))
    azimuth = float(wrap_azimuth(change(np.float64(strip.placement.azimuth_deg))))
    return with_place(mix, strip.id, {"azimuth_deg": azimuth})


def _vectors(mix: Mix, strip: Strip) -> tuple[Array, Array]:
    """The directions of a strip's path, (times, 3), and its times: one where it stands still."""
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
        kept = (
            thinned_directions(times, a, e, _WITHIN_DEG)
            if len(times) > 2
            else list(range(len(times)))
        )
        for name, row in (("azimuth_deg", wrap_azimuth(a)), ("elevation_deg", e)):
            points = Breakpoints(np.round(times[kept], 4), np.round(row[kept], 4))
            mix = with_lane(mix, Automation(target=f"{strip.id}/placement/{name}", points=points))
    return with_place(
        mix, strip.id, {"azimuth_deg": float(azimuth[0]), "elevation_deg": float(elevation[0])}
    )
