"""Places of a mix with names."""

from typing import Any, Literal

from pydantic import Field

from metaphon.core.document.marker import MOST_MARKERS, Marker
from metaphon.core.document.mix import Mix
from metaphon.core.document.part import Identifier, Name, TimeS
from metaphon.core.edits.command import Command, first_free
from metaphon.core.edits.typed_values import read_value
from metaphon.core.errors import InputError, Vanished


def marker_of(mix: Mix, identifier: str) -> Marker:
    """A marker by its id. Raises Vanished where it is not there."""
    for marker in mix.markers:
        if marker.id == identifier:
            return marker
    raise Vanished("This marker is no longer there.")


def _clock(seconds: float) -> str:
    minutes, rest = divmod(round(seconds, 3), 60.0)
    return f"{minutes:.0f}:{rest:06.3f}"


def _with(mix: Mix, markers: list[Marker]) -> Mix:
    ordered = sorted(markers, key=lambda marker: (marker.at_s, marker.id))
    return mix.model_copy(update={"markers": tuple(ordered)})


class AddMarker(Command):
    """Give a place of the mix a name."""

    kind: Literal["add_marker"] = "add_marker"
    at_s: TimeS
    name: Name = Field("", max_length=120)

    def apply(self, mix: Mix) -> Mix:
        if len(mix.markers) >= MOST_MARKERS:
            raise InputError(f"A mix has at most {MOST_MARKERS} markers; remove some first.")
        taken = {marker.id for marker in mix.markers}
        fresh = Marker(
            id=first_free("marker", taken, "_{}"), at_s=self.at_s, name=self.name.strip()
        )
        return _with(mix, [*mix.markers, fresh])

    def describe(self, mix: Mix) -> str:
        named = f" {self.name.strip()}" if self.name.strip() else ""
        return f"Set the marker{named} at {_clock(self.at_s)}"


class SetMarker(Command):
    """Name a marker, or move it."""

    kind: Literal["set_marker"] = "set_marker"
    marker: Identifier
    path: Literal["name", "at_s"]
    value: float | str = Field(description="A time as people type it, or a name.")

    def _fresh(self, mix: Mix) -> Marker:
        held = marker_of(mix, self.marker)
        value: Any = str(self.value).strip()
        if self.path == "at_s":
            value = read_value(held, "at_s", self.value, mix.sample_rate_hz)
        elif len(value) > 120:
            raise InputError("The name of a marker has at most 120 letters.")
        return held.model_copy(update={self.path: value})

    def apply(self, mix: Mix) -> Mix:
        fresh = self._fresh(mix)
        return _with(mix, [*(one for one in mix.markers if one.id != fresh.id), fresh])

    def describe(self, mix: Mix) -> str:
        held, fresh = marker_of(mix, self.marker), self._fresh(mix)
        if self.path == "name":
            return f"Named the marker at {_clock(held.at_s)} {fresh.name}".strip()
        named = f" {held.name}" if held.name else ""
        return f"Moved the marker{named} to {_clock(fresh.at_s)}"


class RemoveMarker(Command):
    """Take a marker away."""

    kind: Literal["remove_marker"] = "remove_marker"
    marker: Identifier

    def apply(self, mix: Mix) -> Mix:
        gone = marker_of(mix, self.marker)
        return _with(mix, [one for one in mix.markers if one is not gone])

    def describe(self, mix: Mix) -> str:
        held = marker_of(mix, self.marker)
        named = f" {held.name}" if held.name else ""
        return f"Took away the marker{named} at {_clock(held.at_s)}"
