"""Reverbs that are linked with each other, or let go alone."""

from typing import Literal

from pydantic import Field

from metaphon.core.document.mix import Mix
from metaphon.core.document.part import Identifier
from metaphon.core.edits.chains import Place, processor_at, with_chain
from metaphon.core.edits.command import Command, strip_of
from metaphon.core.errors import InputError
from metaphon.core.process.processor import Processor


class LinkReverb(Command):
    """Link a reverb with that of another strip, whose settings it takes; or let it go alone."""

    kind: Literal["link_reverb"] = "link_reverb"
    strip: Identifier
    place: int = Place
    to: Identifier | None = Field(description="The strip whose reverb it follows; null for none.")

    def apply(self, mix: Mix) -> Mix:
        own = processor_at(strip_of(mix, self.strip), self.place)
        if self.to is None:
            return _with(mix, self.strip, self.place, own.model_copy(update={"linked": ""}))
        place, other = self._other(mix, own)
        new = other.model_copy(update={"linked": other.link or self.to})
        return _with(_with(mix, self.to, place, new), self.strip, self.place, new)

    def describe(self, mix: Mix) -> str:
        name = strip_of(mix, self.strip).name
        own = processor_at(strip_of(mix, self.strip), self.place)
        if self.to is None:
            return f"The reverb of {name} goes alone"
        self._other(mix, own)
        return f"The reverb of {name} follows that of {strip_of(mix, self.to).name}"

    def _other(self, mix: Mix, own: Processor) -> tuple[int, Processor]:
        found = strip_of(mix, self.to or "")
        for place, one in enumerate(found.chain):
            if type(one) is type(own) and one.is_reverb and found.id != self.strip:
                return place, one
        raise InputError(f"{found.name} has no {own.title.lower()} to link with.")


def _with(mix: Mix, strip_id: str, place: int, new: Processor) -> Mix:
    chain = list(strip_of(mix, strip_id).chain)
    chain[place] = new
    return with_chain(mix, strip_id, chain)
