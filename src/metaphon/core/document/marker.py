"""A place of a mix that has a name."""

from pydantic import Field

from metaphon.core.document.part import LATEST_S, Identifier, Name, Part
from metaphon.core.process.processor import parameter

MOST_MARKERS = 1000


class Marker(Part):
    """A named place, which is written into files as a cue."""

    id: Identifier
    at_s: float = parameter(
        0.0, 0.0, LATEST_S, unit="s", step=0.001, moves=False, help="Where in the mix it is."
    )
    name: Name = Field("", max_length=120)
