"""Setting single values: of one strip, of several chosen ones, or of a strip's whole group."""

from collections.abc import Mapping
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field

from metaphon.core.document.lanes import points_of, without_lanes
from metaphon.core.document.mix import LfeSend, Mix, Placement, Send, Strip
from metaphon.core.document.part import SILENT_DB, TimeS
from metaphon.core.document.positions import (
    FORMS,
    Coordinates,
    in_form,
    in_own_form,
    place_lanes,
    positions,
)
from metaphon.core.document.value_paths import field_at, parsed, range_of_field, with_value_at
from metaphon.core.edits.chain_places import basics_place, with_basics
from metaphon.core.edits.command import Command, Strips, changed, names, strip_of
from metaphon.core.edits.lane_trim import lane_value, room_for, shifted_lane, trimmed_to
from metaphon.core.edits.typed_values import extra_of, label_of, read_value
from metaphon.core.errors import InputError, Vanished
from metaphon.core.process.registry import KINDS
from metaphon.core.spatial.directions import wrap_azimuth

Value = bool | float | str | None
_GIVEN = Field(
    description="A number, a word, on or off; also as people type it: '-3,5 dB', '48 smp', '-inf'."
)
_PATH = Field(
    min_length=1,
    max_length=200,
    description="What is set: gain_db, muted, placement/azimuth_deg, sends/BUS/level_db, "
    "clips/0/start_s, "
    "chain/0/width, chain/0/bands/1/gain_db; basics/width is that of the first basics at work.",
)
POSITION: dict[str, Coordinates] = {
    name: form for form, found in FORMS.items() for name in found[:3]
}
_SIZE: dict[str, Coordinates] = {name: form for form, found in FORMS.items() for name in found[3:]}
# what a group moves together, by the setting that says so
_GROUPED = {
    "gain_db": "moves_gain",
    "muted": "moves_mute",
    "soloed": "moves_mute",
    **{f"placement/{name}": "moves_position" for name in (*POSITION, "extent_deg")},
}
_APART = (
    "id",
    "name",
    "note",
    "group",
    "output",
    "layout",
    "kind",
    "mode",
    "coordinates",
    "reference",
    "file",
    "bus",
)
_SWITCHED = {
    "muted": ("Muted", "Unmuted"),
    "soloed": ("Soloed", "Unsoloed"),
    "solo_safe": ("Made solo-safe", "No longer solo-safe"),
    "resting": ("Put to rest", "Woke"),
    "basics/polarity_inverted": ("Inverted", "Set upright"),
}


class SetValue(Command):
    """Set one value of a strip, and of those chosen with it or in its group.

    Gains and positions keep their differences: the first strip gets the value, the others move as
    far. Everything else becomes alike. Where a lane moves the value, the whole lane is trimmed so
    that it has the value at `at_s`; `write_over` takes the lane away instead.
    """

    kind: Literal["set"] = "set"
    strips: Strips
    path: str = _PATH
    value: Value = _GIVEN
    with_group: bool = Field(
        False, description="Reach the strip's group too, where it moves this together."
    )
    at_s: TimeS = Field(0.0, description="When it was seen, where automation moves it.")
    write_over: bool = Field(False, description="Take its lane away, so that the value stays.")

    def apply(self, mix: Mix) -> Mix:
        reached = self._reached(mix)
        value = self._read(mix)
        if self.write_over or self._is_switch(mix):
            mix = without_lanes(
                mix, [lane for one in reached for lane in self._written_over(mix, one)]
            )
        if self.path == "gain_db" or self._position is not None:
            return self._shifted(mix, reached, float(value))
        for strip_id in reached:
            mix = self._set(mix, strip_id, value)
        return mix

    def describe(self, mix: Mix) -> str:
        subject, value = names(mix, self._reached(mix)), self._read(mix)
        if self.path in _SWITCHED:
            return f"{_SWITCHED[self.path][not value]} {subject}"
        part, name = self._field(mix)
        if isinstance(part, Send):
            subject += f" to {strip_of(mix, part.bus).name}"
        elif isinstance(part, LfeSend):
            subject += " to the LFE"
        field = type(part).model_fields[name]
        title = getattr(type(part), "title", "")
        if name == "bypassed":
            return f"{'Bypassed' if value else 'Brought back'} {title} on {subject}"
        label, unit = label_of(name, field).lower(), str(extra_of(field).get("unit", ""))
        if isinstance(value, bool):
            shown = "on" if value else "off"
        elif isinstance(value, float | int):
            shown = f"{float(value):g} {unit}".strip()
        else:
            shown = "empty" if value is None else str(value).replace("_", " ")
        if self._lane(mix, self.strips[0]):
            over = self.write_over or self._is_switch(mix)
            shown += ", lane written over" if over else ", lane trimmed"
        return f"{subject}{f', {title.lower()}' if title else ''}: {label} {shown}"

    @property
    def _position(self) -> str | None:
        head, _, name = self.path.partition("/")
        return name if head == "placement" and name in POSITION else None

    def _reached(self, mix: Mix) -> tuple[str, ...]:
        first = strip_of(mix, self.strips[0])
        moves = _GROUPED.get(self.path)
        group = next((group for group in mix.groups if group.id == first.group), None)
        if (
            len(self.strips) > 1
            or not self.with_group
            or group is None
            or not (moves and getattr(group, moves))
        ):
            return self.strips
        others = [
            s.id for s in mix.strips if s.group == group.id and not s.resting and s.id != first.id
        ]
        return (first.id, *others)

    def _field(self, mix: Mix) -> tuple[Any, str]:
        """The part that holds the value, of the first strip, and the name of its field there."""
        strip = strip_of(mix, self.strips[0])
        head, *rest = parsed(self.path)
        if head == "basics":
            place = basics_place(mix, strip.id)
            part = strip.chain[place] if place is not None else KINDS["basics"]()
            found = field_at(part, tuple(rest)) if rest else None
        else:
            found = field_at(strip, (head, *rest))
        if found is None and head in ("sends", "chain", "clips"):
            raise Vanished("This is no longer there; look again.")
        if found is None or found[1] in _APART:
            raise InputError(f"There is no value {self.path} that can be set.")
        return found

    def _read(self, mix: Mix) -> Any:
        return read_value(*self._field(mix), self.value, mix.sample_rate_hz)

    def _set(self, mix: Mix, strip_id: str, value: Any) -> Mix:
        path = parsed(self.path)
        if path[0] == "basics":
            mix, place = with_basics(mix, strip_id)
            path = ("chain", place, *path[1:])
        strip = strip_of(mix, strip_id)
        is_size = path[0] == "placement" and path[-1] in _SIZE
        if is_size and strip.placement.mode == "object" and value is not None:
            return positioned(mix, strip, {str(path[-1]): value}, self.at_s)
        if (target := self._lane(mix, strip_id)) and isinstance(value, int | float):
            mix = trimmed_to(mix, target, float(value), self.at_s)
        new = with_value_at(strip, path, value)
        if path == ("resting",) and value:  # what rests is heard alone by nobody
            new = new.model_copy(update={"soloed": False})
        return mix.with_strip(new)

    def _lane(self, mix: Mix, strip_id: str) -> str | None:
        """What a lane moves that moves the value of a strip; None where none does."""
        path = self.path
        if path.startswith("basics/"):
            place = basics_place(mix, strip_id)
            path = path.replace("basics", f"chain/{place}", 1)
        target = f"{strip_id}/{path}"
        return target if points_of(mix, target) is not None else None

    def _written_over(self, mix: Mix, strip_id: str) -> list[str]:
        """The lanes that go where a value is written over; of a position in another form, all."""
        if target := self._lane(mix, strip_id):
            return [target]
        form = strip_of(mix, strip_id).placement.coordinates
        if self._position is None or self._position in FORMS[form]:
            return []
        lanes = place_lanes(mix, strip_id)
        return [lanes[name].target for name in FORMS[form][:3] if name in lanes]

    def _is_switch(self, mix: Mix) -> bool:
        """Whether the value has two states only, so that there is nothing to trim."""
        part, name = self._field(mix)
        field = type(part).model_fields[name]
        low, high = range_of_field(field) or (0.0, 0.0)
        return 0.0 < high - low <= float(extra_of(field).get("step", 0.0))

    def _shifted(self, mix: Mix, reached: tuple[str, ...], value: float) -> Mix:
        held = {strip_id: self._held(mix, strip_id) for strip_id in reached}
        first, *others = reached
        step, turns = value - held[first], self.path == "placement/azimuth_deg"
        if others and not turns:
            # nobody is pushed past an end, so that differences are kept; what is silent stays
            # silent
            part, name = self._field(mix)
            low, high = range_of_field(type(part).model_fields[name]) or (value, value)
            moving = [v for v in held.values() if not (self.path == "gain_db" and v <= low)]
            step = min(max(step, low - min(moving, default=low)), high - max(moving, default=high))
            for target in filter(None, (self._lane(mix, one) for one in reached)):
                step = float(np.clip(step, *room_for(mix, target)))
        for strip_id in reached:
            wanted = (
                value
                if not others or (strip_id == first and turns)
                else round(held[strip_id] + step, 6)
            )
            if self.path == "gain_db":
                lane = self._lane(mix, strip_id)
                mix = trimmed_to(mix, lane, wanted, self.at_s) if lane else mix
                if strip_id == first or held[strip_id] > SILENT_DB:
                    mix = changed(mix, [strip_id], lambda strip, gain=wanted: {"gain_db": gain})  # type: ignore[misc]
            else:
                strip = strip_of(mix, strip_id)
                mix = positioned(mix, strip, {str(self._position): wanted}, self.at_s)
        return mix

    def _held(self, mix: Mix, strip_id: str) -> float:
        strip = strip_of(mix, strip_id)
        if self._position is not None:
            place = placement_at(mix, strip, self.at_s)
            return position_of(strip.model_copy(update={"placement": place}))[self._position]
        target = self._lane(mix, strip_id)
        moved = lane_value(mix, target, self.at_s) if target else None
        return strip.gain_db if moved is None else round(moved, 6)


def position_of(strip: Strip) -> dict[str, float]:
    """Where a strip is and how large, said in both forms, by the names of the fields."""
    place = strip.placement
    own = positions(place, {}, np.zeros(1))
    found: dict[str, float] = {}
    for form, fields in FORMS.items():
        if place.mode == "object":
            values = in_form(own, place.coordinates, form, place.reference)[:, 0]
        else:
            values = positions(place.model_copy(update={"coordinates": form}), {}, np.zeros(1))[
                :, 0
            ]
        found |= {name: round(float(value), 4) for name, value in zip(fields, values, strict=True)}
    return found


_ANGLES = ("azimuth_deg", "elevation_deg", "extent_deg")


def angles_of_strip(strip: Strip) -> dict[str, float]:
    """Where a strip is and how wide, as angles in degrees, whatever form it uses."""
    place = strip.placement
    if place.mode == "object" and place.coordinates == "cube":
        found = position_of(strip)
        return {name: found[name] for name in _ANGLES}
    return {name: getattr(place, name) for name in _ANGLES}


def placement_at(mix: Mix, strip: Strip, at_s: float) -> Placement:
    """The placement of a strip as its automation has it at a time."""
    now = {
        name: lane_value(mix, lane.target, at_s)
        for name, lane in place_lanes(mix, strip.id).items()
    }
    return strip.placement.model_copy(update=now)


def positioned(mix: Mix, strip: Strip, values: Mapping[str, float], at_s: float) -> Mix:
    """The mix with some values of a position set, said in the form that the strip uses.

    Parameters
    ----------
    mix, strip
        The mix and the strip of it.
    values
        By names of one of the two forms, or sizes.
    at_s
        When the strip is to be there: lanes that move it are trimmed by the difference.

    Raises
    ------
    InputError
        Where the strip is locked.
    """
    place = placement_at(mix, strip, at_s)
    name = next(iter(values))
    form = POSITION.get(name) or _SIZE[name]
    given = dict(values)
    if abs(given.get("azimuth_deg", 0.0)) > 180.0:
        given["azimuth_deg"] = float(wrap_azimuth(given["azimuth_deg"]))
    if place.mode == "object":
        refuse_locked(strip)
        if place.coordinates != form:
            given = {n: round(v, 4) for n, v in in_own_form(place, form, given).items()}
    for own, value in given.items():
        target = f"{strip.id}/placement/{own}"
        if points_of(mix, target) is not None:
            mix = trimmed_to(mix, target, value, at_s)
        mix = mix.with_strip(with_value_at(strip_of(mix, strip.id), ("placement", own), value))
    return mix


def refuse_locked(strip: Strip) -> None:
    """Raises InputError where a strip's position is locked."""
    if strip.placement.locked:
        raise InputError(f"{strip.name} is locked; unlock it first.")


_CHANNELS = {str(number) for number in range(1, 65)}


class Toggle(Command):
    """Put something into a list of settings, or take it out: a zone, a channel.

    The others become like the first.
    """

    kind: Literal["toggle"] = "toggle"
    strips: Strips
    path: str = _PATH
    item: Annotated[int, Field(ge=0, le=64)] | Annotated[str, Field(max_length=64)] = Field(
        description="A zone, or a channel counted from 1."
    )

    def apply(self, mix: Mix) -> Mix:
        items = self._items(mix)
        for strip_id in self.strips:
            strip = strip_of(mix, strip_id)
            mix = mix.with_strip(with_value_at(strip, parsed(self.path), items))
        return mix

    def describe(self, mix: Mix) -> str:
        subject, items = names(mix, self.strips), self._items(mix)
        if self.path == "placement/excluded":
            return f"{subject}: kept out of {', '.join(map(str, items)) or 'no zone'}"
        return f"{subject}: {self.path.rsplit('/', 1)[-1].replace('_', ' ')}, {self.item}"

    def _items(self, mix: Mix) -> tuple[Any, ...]:
        found = field_at(strip_of(mix, self.strips[0]), parsed(self.path))
        if found is None or not isinstance(getattr(*found), tuple):
            raise InputError(f"There is no list {self.path} that can be changed.")
        item = int(self.item) if str(self.item) in _CHANNELS else self.item
        items = tuple(sorted(set(getattr(*found)) ^ {item}))
        try:
            with_value_at(strip_of(mix, self.strips[0]), parsed(self.path), items)
        except InputError:
            raise InputError("Choose a zone or a channel from the list.") from None
        return items


class ShiftGain(Command):
    """Turn strips up or down by so many dB, with their lanes; what is silent stays silent."""

    kind: Literal["shift_gain"] = "shift_gain"
    strips: Strips
    by_db: float = Field(ge=-60.0, le=60.0, json_schema_extra={"unit": "dB"})

    def apply(self, mix: Mix) -> Mix:
        loud = [
            s
            for s in (strip_of(mix, strip_id) for strip_id in self.strips)
            if s.gain_db > SILENT_DB
        ]
        low, high = range_of_field(Strip.model_fields["gain_db"]) or (0.0, 0.0)
        step = min(self.by_db, high - max((s.gain_db for s in loud), default=0.0))
        lanes = [f"{s.id}/gain_db" for s in loud if points_of(mix, f"{s.id}/gain_db") is not None]
        for target in lanes:
            step = float(np.clip(step, *room_for(mix, target)))
        for target in lanes:
            mix = shifted_lane(mix, target, step)
        return changed(
            mix,
            [s.id for s in loud],
            lambda strip: {"gain_db": max(round(strip.gain_db + step, 6), low)},
        )

    def describe(self, mix: Mix) -> str:
        return f"{names(mix, self.strips)}: gain {self.by_db:+.1f} dB"
