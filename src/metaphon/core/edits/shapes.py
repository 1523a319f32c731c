"""Several strips placed at once: in a fan, a circle, a line, or by what their names tell."""

from math import atan2, degrees, hypot
from typing import Literal

import numpy as np

from metaphon.core.document.mix import Mix, Strip
from metaphon.core.document.named_directions import read_direction
from metaphon.core.document.part import TimeS
from metaphon.core.edits.command import Command, Strips, names, strip_of
from metaphon.core.edits.values import positioned
from metaphon.core.errors import InputError

_FAN_DEG = 60.0  # to either side
_WORDS = {
    "fan": "in a fan in front",
    "circle": "in a circle",
    "line": "in a line in front",
    "names": "by their names",
}


class PlaceInShape(Command):
    """Place strips at the height of the ears in a shape, from left to right in their order.

    A fan reaches 60 degrees to either side, a circle begins in front and goes round by the left,
    a line lies straight in front from corner to corner. By their names (left, right, centre, rear,
    side, height, labels of loudspeakers) those stay whose names tell no direction.
    """

    kind: Literal["place_in_shape"] = "place_in_shape"
    strips: Strips
    shape: Literal["fan", "circle", "line", "names"]
    at_s: TimeS = 0.0

    def apply(self, mix: Mix) -> Mix:
        wanted = set(self.strips)
        strips = [strip for strip in mix.strips if strip.id in wanted]
        for strip_id in wanted - {strip.id for strip in strips}:
            strip_of(mix, strip_id)
        directions = self._directions(strips)
        for strip, (azimuth, elevation, distance) in directions:
            values = {
                "azimuth_deg": round(azimuth, 2),
                "elevation_deg": elevation,
                "distance": round(distance, 3),
            }
            mix = positioned(mix, strip, values, self.at_s)
        return mix

    def describe(self, mix: Mix) -> str:
        return f"{names(mix, self.strips)}: placed {_WORDS[self.shape]}"

    def _directions(self, strips: list[Strip]) -> list[tuple[Strip, tuple[float, float, float]]]:
        """Azimuth and elevation in degrees, and distance, of each strip that is placed."""
        count = len(strips)
        along = np.linspace(1.0, -1.0, count) if count > 1 else np.zeros(1)
        if self.shape == "fan":
            return [
                (s, (_FAN_DEG * float(x), 0.0, 1.0)) for s, x in zip(strips, along, strict=True)
            ]
        if self.shape == "line":
            return [
                (s, (degrees(atan2(x, 1.0)), 0.0, hypot(x, 1.0)))
                for s, x in zip(strips, map(float, along), strict=True)
            ]
        if self.shape == "circle":
            turns = [360.0 * number / count for number in range(count)]
            return [
                (s, (turn if turn <= 180.0 else turn - 360.0, 0.0, 1.0))
                for s, turn in zip(strips, turns, strict=True)
            ]
        told = [(strip, read_direction(strip.name)) for strip in strips]
        found = [(s, (*direction, s.placement.distance)) for s, direction in told if direction]
        if not found:
            raise InputError(
                "None of these names tells a direction; use words like left, right, rear, height."
            )
        return found
