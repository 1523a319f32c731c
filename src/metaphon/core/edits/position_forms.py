"""Saying positions in another form, angles or the room, with their automation.

Both sets of data are kept.
"""

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from metaphon.core.document.breakpoints import Breakpoints
from metaphon.core.document.lanes import with_lane, without_lanes
from metaphon.core.document.mix import Automation, Mix, Placement, Strip
from metaphon.core.document.part import Identifier
from metaphon.core.document.positions import (
    FORMS,
    Coordinates,
    direction_change_deg,
    in_form,
    other_form,
    positions,
    sampled_times,
    used_lanes,
)
from metaphon.core.document.thinning import thinned_lane
from metaphon.core.edits.command import Command, Strips, changed, names, strip_of
from metaphon.core.errors import InputError
from metaphon.core.spatial.room_cube import REFERENCES

_FINE = 800  # steps between two breakpoints, at most
_WITHIN = {"cube": 0.0003, "sphere": 0.02}
_TOLD_DEG = 0.1


class Convert(Command):
    """Say positions in the other form; what was said before stays in the mix and is not used."""

    kind: Literal["convert"] = "convert"
    strips: Strips
    to: Literal["sphere", "cube"] = Field(description="Angles, or a place in the room.")
    reference: str = "4+5+0"

    def apply(self, mix: Mix) -> Mix:
        return converted(mix, self.strips, self.to, self.reference)[0]

    def describe(self, mix: Mix) -> str:
        return (
            f"{names(mix, self.strips)}: positions said as "
            f"{'the room' if self.to == 'cube' else 'angles'}"
        )

    def report(self, mix: Mix) -> list["Conversion"]:
        """What it does to each source, given the mix before."""
        return converted(mix, self.strips, self.to, self.reference)[1]


class UseKeptForm(Command):
    """Use the other set of position data that is kept, as it is."""

    kind: Literal["use_kept_form"] = "use_kept_form"
    strips: Strips

    def apply(self, mix: Mix) -> Mix:
        def change(strip: Strip) -> dict[str, Placement]:
            if strip.placement.mode != "object":
                return {}
            form = other_form(strip.placement.coordinates)
            return {"placement": strip.placement.model_copy(update={"coordinates": form})}

        return changed(mix, self.strips, change)

    def describe(self, mix: Mix) -> str:
        return f"{names(mix, self.strips)}: back to the kept positions"


class DropKeptForm(Command):
    """Take away the lanes of position data that is kept and not used."""

    kind: Literal["drop_kept_form"] = "drop_kept_form"
    strip: Identifier

    def apply(self, mix: Mix) -> Mix:
        return without_place_lanes(
            mix, self.strip, FORMS[other_form(strip_of(mix, self.strip).placement.coordinates)]
        )

    def describe(self, mix: Mix) -> str:
        return f"{strip_of(mix, self.strip).name}: kept positions taken away"


@dataclass(frozen=True)
class Conversion:
    """What a conversion did to one source.

    How far it moved at most, and what the new form cannot say.
    """

    strip: str
    name: str
    moved_deg: float
    lost: tuple[str, ...]


def without_place_lanes(mix: Mix, strip_id: str, names: Iterable[str]) -> Mix:
    """The mix without lanes of a strip's placement, named by their parameters."""
    return without_lanes(mix, (f"{strip_id}/placement/{name}" for name in names))


def converted(
    mix: Mix, strip_ids: Iterable[str], wanted: Coordinates, reference: str
) -> tuple[Mix, list[Conversion]]:
    """Say the positions of objects in another form, automation included, and tell what that did.

    What was said in the old form stays in the mix and is not used. Raises InputError for an unknown
    reference.
    """
    if reference not in REFERENCES:
        raise InputError(f"There is no reference {reference}; use one of {', '.join(REFERENCES)}.")
    report = []
    ids = set(strip_ids)
    for strip in mix.strips:
        if (
            strip.id in ids
            and strip.placement.mode == "object"
            and strip.placement.coordinates != wanted
        ):
            mix, one = _convert(mix, strip, wanted, reference)
            report.append(one)
    return mix, report


def _convert(mix: Mix, strip: Strip, wanted: Coordinates, reference: str) -> tuple[Mix, Conversion]:
    place, form = strip.placement, strip.placement.coordinates
    lanes = used_lanes(mix, strip)
    still = in_form(positions(place, {}, np.zeros(1)), form, wanted, reference)
    names = FORMS[wanted]
    held = _held(still, wanted)
    values = {name: round(float(v), 6) for name, v in zip(names, held[:, 0], strict=True)}
    placement = place.model_copy(update={**values, "coordinates": wanted, "reference": reference})
    mix = without_place_lanes(mix, strip.id, names)
    before, after = positions(place, {}, np.zeros(1)), held
    if lanes:
        times = sampled_times(lanes.values(), _FINE)
        before = positions(place, lanes, times)
        after = _held(in_form(before, form, wanted, reference), wanted)
        if wanted == "sphere":
            after[0] = np.degrees(np.unwrap(np.radians(_steady(after[0], after[1]))))
        for name, row in zip(names, after, strict=True):
            if np.ptp(row) > 1e-9:
                points = Breakpoints(np.round(times, 4), np.round(row, 5))
                within = _WITHIN[wanted] if not name.startswith("extent") else 10 * _WITHIN[wanted]
                lane = Automation(target=f"{strip.id}/placement/{name}", points=points)
                mix = with_lane(mix, thinned_lane(lane, within))
    mix = changed(mix, [strip.id], lambda s: {"placement": placement})
    moved = direction_change_deg(before, form, after, wanted, reference)
    return mix, Conversion(
        strip.id, strip.name, round(moved, 2), tuple(_lost(before, form, after, place, moved))
    )


def _held(values: NDArray[np.float64], form: Coordinates) -> NDArray[np.float64]:
    """Within what a form can say: a room ends at its walls."""
    found = values.copy()
    if form == "cube":
        found[:3] = np.clip(found[:3], -1.0, 1.0)
        found[3:] = np.clip(found[3:], 0.0, 1.0)
    return found


def _steady(azimuth: NDArray[np.float64], elevation: NDArray[np.float64]) -> NDArray[np.float64]:
    """Straight above or below no azimuth counts.

    The last one that did is kept, so that nothing spins there.
    """
    found = azimuth.copy()
    counts = np.abs(elevation) < 89.99
    if not counts.any():
        return found
    last = np.maximum.accumulate(np.where(counts, np.arange(len(found)), -1))
    last[last < 0] = int(np.argmax(counts))
    return found[last]


def _lost(
    before: NDArray[np.float64],
    form: Coordinates,
    after: NDArray[np.float64],
    place: Placement,
    moved: float,
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
        yield (
            "extent: said as sizes along the walls"
            if form == "sphere"
            else "extent: said as angles"
        )
    if moved > _TOLD_DEG:
        yield f"direction: up to {moved:.1f}°"
