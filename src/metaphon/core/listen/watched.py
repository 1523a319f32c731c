"""Which processor of a strip a listener looks into."""

from pydantic import Field

from metaphon.core.document.part import Identifier, Part


class Watched(Part):
    """A processor by its strip and its place in the chain, counted from 0."""

    strip: Identifier
    place: int = Field(ge=0, le=999)
