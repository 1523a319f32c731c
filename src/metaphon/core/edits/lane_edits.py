"""Automation lanes changed.

Breakpoint by breakpoint, drawn, trimmed, stretched, scaled, thinned, copied, brought in.
"""

from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field

from metaphon.core.document.breakpoints import CURVES, LARGEST, Breakpoints, CurveName
from metaphon.core.document.lanes import (
    is_turning,
    lane_of,
    points_of,
    range_of,
    value_at,
    values_at,
    with_lane,
    without_lanes,
)
from metaphon.core.document.mix import Automation, Mix
from metaphon.core.document.part import LATEST_S, Identifier, Name, TimeS
from metaphon.core.document.positions import place_lanes
from metaphon.core.document.thinning import thinned_lane
from metaphon.core.document.value_paths import field_at, parsed
from metaphon.core.document.value_paths import value_at as setting_at
from metaphon.core.edits.command import Command, counted, strip_of
from metaphon.core.edits.position_forms import without_place_lanes
from metaphon.core.edits.typed_values import extra_of, label_of
from metaphon.core.errors import InputError, OutOfRange, Vanished
from metaphon.core.spatial.directions import wrap_azimuth

_JUST_BEFORE_S = 0.001
_STROKE_PART = 720.0  # a stroke of the hand is thinned to this part of the lane's range
_UNHEARD_PART = 360.0
_PATH = Field(
    min_length=1,
    max_length=200,
    description="What the lane moves: gain_db, placement/azimuth_deg, ...",
)


LaneValue = Annotated[float, Field(ge=-LARGEST, le=LARGEST)]


class LaneEdit(Command):
    """What is common to changes of one lane."""

    strip: Identifier
    path: str = _PATH

    @property
    def target(self) -> str:
        """What the lane moves, as the mix document says it."""
        return f"{self.strip}/{self.path}"

    def words(self, mix: Mix) -> str:
        """What is moved, in words."""
        strip = strip_of(mix, self.strip)
        found = field_at(strip, parsed(self.path))
        if found is None:
            return f"{strip.name}, {self.path.rsplit('/', 1)[-1]}"
        part, name = found
        field = type(part).model_fields[name]
        unit = extra_of(field).get("unit")
        return f"{strip.name}, {label_of(name, field).lower()}{f' in {unit}' if unit else ''}"


def in_range(mix: Mix, target: str, points: Breakpoints) -> None:
    """Raises InputError where a target cannot move or breakpoints lie outside its range."""
    low, high = range_of(mix, target)
    if points.values.min() < low or points.values.max() > high:
        raise OutOfRange(f"This lane goes from {low:g} to {high:g}; draw within it.")


def within_turn(target: str, value: Any) -> Any:
    """An angle that turns, brought back into its range; other values as they are."""
    return wrap_azimuth(value) if is_turning(target) else value


def drawn_into(mix: Mix, target: str, points: Breakpoints, still: float | None = None) -> Mix:
    """Set breakpoints into a lane in place of what was between the first and the last of them.

    Makes the lane.

    What was before and after stays; `still` is the value before where there was no lane. Raises
    InputError for points that are out of range, and for what cannot move.
    """
    in_range(mix, target, points)
    held = points_of(mix, target)
    old = held or (None if still is None else Breakpoints.still(still))
    begins, ends = points.times_s[0], points.times_s[-1]
    parts = [points]
    if old is not None and (head := old.times_s < begins - _JUST_BEFORE_S).any():
        parts.insert(0, old.chosen(head))
        if len(points) > 1:
            at = begins - _JUST_BEFORE_S
            value = within_turn(target, values_at(old, np.array([at]), is_turning(target)))
            parts.insert(1, Breakpoints([round(float(at), 4)], np.round(value, 4)))
    if held is not None and (tail := held.times_s > ends).any():
        parts.append(held.chosen(tail))
    return with_lane(mix, Automation(target=target, points=parts[0].joined(*parts[1:])))


class DrawLane(LaneEdit):
    """Replace a whole lane, or draw into it (`into`).

    Then what lies before and after the stroke stays.
    """

    kind: Literal["draw_lane"] = "draw_lane"
    points: Breakpoints
    into: bool = False

    def apply(self, mix: Mix) -> Mix:
        if self.into:
            mix = drawn_into(mix, self.target, self.points)
            low, high = range_of(mix, self.target)
            return with_lane(
                mix, thinned_lane(lane_of(mix, self.target), (high - low) / _STROKE_PART)
            )
        in_range(mix, self.target, self.points)
        return with_lane(mix, Automation(target=self.target, points=self.points))

    def describe(self, mix: Mix) -> str:
        return f"{self.words(mix)} drawn"


class SetBreakpoint(LaneEdit):
    """Move a breakpoint of a lane, or set its curve; without a place it is a new one."""

    kind: Literal["set_breakpoint"] = "set_breakpoint"
    place: int | None = counted("Which one, counted from 0 in order of time; null adds one.", None)
    t_s: TimeS
    value: LaneValue
    curve: CurveName = "linear"

    def apply(self, mix: Mix) -> Mix:
        held = points_of(mix, self.target)
        one = Breakpoints([self.t_s], [self.value], [CURVES.index(self.curve)])
        if self.place is not None and (held is None or self.place >= len(held)):
            raise Vanished("This breakpoint is no longer there; look again.")
        rest = held
        if held is not None and self.place is not None:
            others = np.delete(np.arange(len(held)), self.place)
            rest = held.chosen(others) if len(others) else None
        in_range(mix, self.target, one)
        if rest is None:
            return with_lane(mix, Automation(target=self.target, points=one))
        at = int(np.searchsorted(rest.times_s, self.t_s, side="right"))
        points = Breakpoints(
            np.insert(rest.times_s, at, one.times_s),
            np.insert(rest.values, at, one.values),
            np.insert(rest.curves, at, one.curves),
        )
        return with_lane(mix, Automation(target=self.target, points=points))

    def describe(self, mix: Mix) -> str:
        return f"{self.words(mix)}: {self.value:g} at {self.t_s:.2f} s"


class RemoveBreakpoint(LaneEdit):
    """Take a breakpoint away; with its last one the lane goes."""

    kind: Literal["remove_breakpoint"] = "remove_breakpoint"
    place: int = counted("Which one, counted from 0 in order of time.")

    def apply(self, mix: Mix) -> Mix:
        points = lane_of(mix, self.target).points
        if self.place >= len(points):
            raise Vanished("This breakpoint is no longer there; look again.")
        if len(points) == 1:
            return without_lanes(mix, [self.target])
        rest = points.chosen(np.delete(np.arange(len(points)), self.place))
        return with_lane(mix, Automation(target=self.target, points=rest))

    def describe(self, mix: Mix) -> str:
        return f"{self.words(mix)}: breakpoint taken away"


class MovePhrase(LaneEdit):
    """Move a value for one phrase and back, eased within `ramp_s` at either end.

    What comes before and after stays; where there was no lane, the value of the strip does.
    """

    kind: Literal["move_phrase"] = "move_phrase"
    value: LaneValue
    start_s: TimeS
    end_s: TimeS
    ramp_s: float = Field(0.25, ge=0.0, le=60.0, json_schema_extra={"unit": "s"})

    def apply(self, mix: Mix) -> Mix:
        if self.end_s <= self.start_s:
            raise InputError("The end lies before the start; type a later end.")
        held = setting_at(strip_of(mix, self.strip), parsed(self.path))
        range_of(mix, self.target)
        # an extent that is not set is what the other one is
        still = Breakpoints.still(float(held) if isinstance(held, int | float) else 0.0)
        old = points_of(mix, self.target) or still
        ends = np.array([self.start_s, self.end_s])
        before, after = within_turn(self.target, values_at(old, ends, is_turning(self.target)))
        ramp = min(self.ramp_s, (self.end_s - self.start_s) / 2.0)
        points = Breakpoints(
            np.round([self.start_s, self.start_s + ramp, self.end_s - ramp, self.end_s], 4),
            np.round([before, self.value, self.value, after], 4),
            [CURVES.index("smooth"), CURVES.index("linear"), CURVES.index("smooth"), 0],
        )
        return drawn_into(mix, self.target, points, float(still.values[0]))

    def describe(self, mix: Mix) -> str:
        return f"{self.words(mix)}: {self.value:g} from {self.start_s:.2f} to {self.end_s:.2f} s"


class TrimLane(LaneEdit):
    """Keep only what lies between two times; the values at its ends are held outside."""

    kind: Literal["trim_lane"] = "trim_lane"
    start_s: TimeS = 0.0
    end_s: TimeS | None = Field(None, description="The last breakpoint where it is not given.")

    def apply(self, mix: Mix) -> Mix:
        if self.end_s is not None and self.end_s <= self.start_s:
            raise InputError("The end lies before the start; type a later end.")
        lane = lane_of(mix, self.target)
        points = lane.points
        end_s = max(float(points.times_s[-1]), self.start_s) if self.end_s is None else self.end_s
        ends = self.start_s, end_s
        inner = (points.times_s > self.start_s) & (points.times_s < end_s)
        first, last = (
            Breakpoints([t], [round(float(within_turn(self.target, value_at(lane, t))), 6)])
            for t in ends
        )
        middle = [points.chosen(inner)] if inner.any() else []
        return with_lane(mix, lane.model_copy(update={"points": first.joined(*middle, last)}))

    def describe(self, mix: Mix) -> str:
        return f"{self.words(mix)}: trimmed"


class StretchLane(LaneEdit):
    """Slower (factor above 1) or faster from its first breakpoint on, and later by some seconds."""

    kind: Literal["stretch_lane"] = "stretch_lane"
    factor: float = Field(1.0, ge=0.01, le=100.0)
    by_s: float = Field(0.0, ge=-LATEST_S, le=LATEST_S, json_schema_extra={"unit": "s"})

    def apply(self, mix: Mix) -> Mix:
        lane = lane_of(mix, self.target)
        times, first = lane.points.times_s, lane.points.times_s[0]
        moved = np.round(np.maximum(first + (times - first) * self.factor + self.by_s, 0.0), 4)
        points = Breakpoints(moved, lane.points.values, lane.points.curves)
        return with_lane(mix, lane.model_copy(update={"points": points}))

    def describe(self, mix: Mix) -> str:
        return f"{self.words(mix)}: moved in time"


class ScaleLane(LaneEdit):
    """Larger (factor above 1) or smaller swings about a value (the mean where none is given).

    Held in range.
    """

    kind: Literal["scale_lane"] = "scale_lane"
    factor: float = Field(ge=-10.0, le=10.0)
    about: LaneValue | None = None

    def apply(self, mix: Mix) -> Mix:
        lane = lane_of(mix, self.target)
        low, high = range_of(mix, self.target)
        middle = float(np.clip(lane.points.values.mean(), low, high))
        about = middle if self.about is None else self.about
        if not low <= about <= high:
            raise OutOfRange(f"The middle may be {low:g} to {high:g}; {about:g} is outside.")
        values = about + (lane.points.values - about) * self.factor
        held = (
            within_turn(self.target, values)
            if is_turning(self.target)
            else np.clip(values, low, high)
        )
        return with_lane(
            mix, lane.model_copy(update={"points": lane.points.with_values(np.round(held, 4))})
        )

    def describe(self, mix: Mix) -> str:
        return f"{self.words(mix)}: scaled"


class ThinLane(LaneEdit):
    """Take away breakpoints that a lane can do without.

    Its value is nowhere off by more than `within`, where that is given, else by what is not heard.
    """

    kind: Literal["thin_lane"] = "thin_lane"
    within: float | None = Field(None, ge=0.0, le=LARGEST)

    def apply(self, mix: Mix) -> Mix:
        low, high = range_of(mix, self.target)
        within = (high - low) / _UNHEARD_PART if self.within is None else self.within
        if within > high - low:
            raise OutOfRange(f"The difference may be 0 to {high - low:g}; {within:g} is outside.")
        return with_lane(mix, thinned_lane(lane_of(mix, self.target), within))

    def describe(self, mix: Mix) -> str:
        return f"{self.words(mix)}: thinned"


class CopyLane(LaneEdit):
    """Give a lane, or with `whole` all lanes of the placement, to other strips.

    Their own of the kind are replaced.
    """

    kind: Literal["copy_lane"] = "copy_lane"
    to: tuple[Identifier, ...]
    whole: bool = False

    def apply(self, mix: Mix) -> Mix:
        others = self._others()
        paths = (
            [f"placement/{n}" for n in place_lanes(mix, self.strip)] if self.whole else [self.path]
        )
        for path in paths or [self.path]:
            lane = lane_of(mix, f"{self.strip}/{path}")
            for strip_id in others:
                target = f"{strip_of(mix, strip_id).id}/{path}"
                range_of(mix, target)
                mix = with_lane(mix, lane.model_copy(update={"target": target}))
        return mix

    def describe(self, mix: Mix) -> str:
        return f"{self.words(mix)}: copied to {len(self._others())} more"

    def _others(self) -> list[str]:
        others = [strip_id for strip_id in self.to if strip_id != self.strip]
        if not others:
            raise InputError("Choose the sources to copy to as well, with Shift.")
        return others


class RemoveLane(LaneEdit):
    """Take a lane away; its value stays where the strip says."""

    kind: Literal["remove_lane"] = "remove_lane"

    def apply(self, mix: Mix) -> Mix:
        lane_of(mix, self.target)
        return without_lanes(mix, [self.target])

    def describe(self, mix: Mix) -> str:
        return f"{self.words(mix)}: lane taken away"


class BringLanes(Command):
    """Bring whole lanes in; what their strips have of the same kind is replaced."""

    kind: Literal["bring_lanes"] = "bring_lanes"
    lanes: tuple[Automation, ...] = Field(min_length=1)
    source: Name = Field("", max_length=200, description="Where they come from, for the history.")

    def apply(self, mix: Mix) -> Mix:
        for lane in self.lanes:
            in_range(mix, lane.target, lane.points)
            mix = with_lane(mix, lane)
        return mix

    def describe(self, mix: Mix) -> str:
        name = strip_of(mix, self.lanes[0].target.split("/", 1)[0]).name
        return f"{name}: automation brought in{f' from {self.source}' if self.source else ''}"


class StandStill(Command):
    """Take the automation of a strip's place away; it stays where its placement says."""

    kind: Literal["stand_still"] = "stand_still"
    strip: Identifier

    def apply(self, mix: Mix) -> Mix:
        return without_place_lanes(mix, strip_of(mix, self.strip).id, place_lanes(mix, self.strip))

    def describe(self, mix: Mix) -> str:
        return f"{strip_of(mix, self.strip).name} stands still"
