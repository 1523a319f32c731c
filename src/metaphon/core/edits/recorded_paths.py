"""A path recorded or drawn by hand as automation.

Thinned as far as the ear allows, set into what was there.
"""

from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from metaphon.core.document.breakpoints import MOST_POINTS, Breakpoints
from metaphon.core.document.mix import Mix
from metaphon.core.document.part import Identifier, TimeS
from metaphon.core.document.positions import FORMS, in_form
from metaphon.core.document.thinning import thinned_directions
from metaphon.core.edits.command import Command, strip_of
from metaphon.core.edits.lane_edits import drawn_into
from metaphon.core.errors import InputError
from metaphon.core.spatial.directions import wrap_azimuth

_Degrees = Annotated[float, Field(ge=-3600.0, le=3600.0)]

THINNED_TO_DEG = (
    1.0  # about the least change of direction that is heard in front (Blauert 1997, section 2.1)
)


class RecordPath(Command):
    """Set a path into the automation of a strip, in the form that it uses.

    What was before and after it stays.
    """

    kind: Literal["record_path"] = "record_path"
    strip: Identifier
    points: tuple[tuple[TimeS, _Degrees, _Degrees], ...] = Field(
        description="Seconds, azimuth and elevation, in order."
    )
    within_deg: float = Field(THINNED_TO_DEG, ge=0.0, le=30.0, json_schema_extra={"unit": "°"})

    def apply(self, mix: Mix) -> Mix:
        strip = strip_of(mix, self.strip)
        if strip.placement.locked:
            raise InputError(f"{strip.name} is locked; unlock it first.")
        path = np.array(self.points, dtype=float).reshape(-1, 3)
        if not 2 <= len(path) <= MOST_POINTS or np.any(np.diff(path[:, 0]) <= 0.0):
            raise InputError("Nothing was recorded; press Record, play, and drag a source.")
        times, azimuth, elevation = (
            path[:, 0],
            np.unwrap(path[:, 1], period=360.0),
            np.clip(path[:, 2], -90.0, 90.0),
        )
        kept = thinned_directions(times, azimuth, elevation, self.within_deg)
        times, azimuth, elevation = times[kept], azimuth[kept], elevation[kept]
        place = strip.placement
        same = np.ones(len(kept))
        sphere = np.array(
            [azimuth, elevation, same * place.distance, same * 0.0, same * 0.0, same * 0.0]
        )
        if place.coordinates == "cube":
            sphere[2] = 1.0  # the chart has directions only: it moves along the walls
        rows = in_form(sphere, "sphere", place.coordinates, place.reference)
        names = FORMS[place.coordinates][: 3 if place.coordinates == "cube" else 2]
        for name, values in zip(names, rows, strict=False):
            if name == "azimuth_deg":
                values = wrap_azimuth(values)
            points = Breakpoints(np.round(times, 4), np.round(values, 4))
            mix = drawn_into(mix, f"{strip.id}/placement/{name}", points, getattr(place, name))
        return mix

    def describe(self, mix: Mix) -> str:
        return f"Recorded a path of {strip_of(mix, self.strip).name}"
