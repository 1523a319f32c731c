"""The processors of strips: added, moved, copied, taken off; the bands of those that have bands."""

from collections.abc import Iterable
from pathlib import Path
from typing import Any, Literal

from pydantic import Field, ValidationError

from metaphon.core.document.lanes import lanes_of, without_lanes
from metaphon.core.document.mix import Bus, Mix, Strip
from metaphon.core.document.part import Identifier, Name
from metaphon.core.document.targets import bus_format
from metaphon.core.edits.chain_places import renumbered
from metaphon.core.edits.command import Command, changed, counted, strip_of
from metaphon.core.errors import InputError, Vanished
from metaphon.core.process.convolution_reverb import ConvolutionReverb
from metaphon.core.process.processor import Processor
from metaphon.core.process.registry import KINDS, AnyProcessor

Place = counted("Which processor of the chain, counted from 0.")


def processor_at(strip: Strip, place: int) -> Processor:
    """A processor of a strip. Raises Vanished where it is gone."""
    if place >= len(strip.chain):
        raise Vanished("This processor is no longer there; look again.")
    result: Processor = strip.chain[place]
    return result


def with_chain(mix: Mix, strip_id: str, chain: Iterable[Any]) -> Mix:
    """The mix with the whole chain of a strip set."""
    return changed(mix, [strip_id], lambda strip: {"chain": tuple(chain)})


def replace_chain(mix: Mix, strip_id: str, chain: Iterable[Any]) -> Mix:
    """The mix with another chain on a strip; the automation of the old one goes."""
    paths = (path for path in lanes_of(mix, strip_id) if path.startswith("chain/"))
    return with_chain(without_lanes(mix, (f"{strip_id}/{path}" for path in paths)), strip_id, chain)


def _with_processor(mix: Mix, strip: Strip, place: int, new: Processor) -> Mix:
    chain = (new if n == place else p for n, p in enumerate(strip.chain))
    return with_chain(mix, strip.id, chain)


class AddProcessor(Command):
    """Put a processor at the end of a chain."""

    kind: Literal["add_processor"] = "add_processor"
    strip: Identifier
    processor: str = Field(description="Its kind: basics, eq, network_reverb and so on.")

    def apply(self, mix: Mix) -> Mix:
        strip = strip_of(mix, self.strip)
        channels = bus_format(strip.layout).channels if isinstance(strip, Bus) else 0
        if channels and (why := self._kind().idle_on(channels)):
            raise InputError(f"{why} Put it on a stereo track or bus that feeds {strip.name}.")
        made = self._kind().model_validate(self._kind().begins_with)
        return with_chain(mix, self.strip, [*strip.chain, made])

    def describe(self, mix: Mix) -> str:
        return f"Added {self._kind().title} to {strip_of(mix, self.strip).name}"

    def _kind(self) -> type[Processor]:
        if self.processor not in KINDS:
            raise InputError("Choose a processor from the list.")
        return KINDS[self.processor]


class ChooseResponse(Command):
    """Choose the response of a space for a convolution reverb, or none."""

    kind: Literal["choose_response"] = "choose_response"
    strip: Identifier
    place: int = Place
    file: Path | None = Field(description="The response, relative to the document.")

    def apply(self, mix: Mix) -> Mix:
        strip = strip_of(mix, self.strip)
        new = self._reverb(strip).model_copy(update={"file": self.file})
        return _with_processor(mix, strip, self.place, new)

    def describe(self, mix: Mix) -> str:
        strip = strip_of(mix, self.strip)
        self._reverb(strip)
        return f"{strip.name}: {self.file.stem if self.file else 'no response'}"

    def _reverb(self, strip: Strip) -> ConvolutionReverb:
        found = processor_at(strip, self.place)
        if not isinstance(found, ConvolutionReverb):
            raise Vanished("This reverb is no longer there; look again.")
        return found


class RemoveProcessor(Command):
    """Take a processor off, with its automation."""

    kind: Literal["remove_processor"] = "remove_processor"
    strip: Identifier
    place: int = Place

    def apply(self, mix: Mix) -> Mix:
        chain = list(strip_of(mix, self.strip).chain)
        processor_at(strip_of(mix, self.strip), self.place)
        del chain[self.place]
        later = {n: n - 1 for n in range(self.place + 1, len(chain) + 1)}
        mix = renumbered(mix, f"{self.strip}/chain", {self.place: None, **later})
        return with_chain(mix, self.strip, chain)

    def describe(self, mix: Mix) -> str:
        strip = strip_of(mix, self.strip)
        return f"Took {processor_at(strip, self.place).title} off {strip.name}"


class MoveProcessor(Command):
    """Move a processor to another place of its chain; its automation goes along."""

    kind: Literal["move_processor"] = "move_processor"
    strip: Identifier
    place: int = Place
    to: int = counted("Its place afterwards.")

    def apply(self, mix: Mix) -> Mix:
        strip = strip_of(mix, self.strip)
        processor_at(strip, self.place)
        order = list(range(len(strip.chain)))
        order.insert(min(self.to, len(order) - 1), order.pop(self.place))
        mix = renumbered(mix, f"{self.strip}/chain", {old: new for new, old in enumerate(order)})
        return with_chain(mix, self.strip, [strip.chain[old] for old in order])

    def describe(self, mix: Mix) -> str:
        strip = strip_of(mix, self.strip)
        return f"Moved {processor_at(strip, self.place).title} of {strip.name}"


class CopyProcessors(Command):
    """Give processors of a strip to others as well, at the end of their chains or in place of them.

    Where they replace a chain, its automation goes.
    """

    kind: Literal["copy_processors"] = "copy_processors"
    strip: Identifier
    places: tuple[int, ...] = Field(
        (), description="Which ones, counted from 0; all where none are given."
    )
    to: tuple[Identifier, ...] = Field(description="The strips that get them.")
    replace: bool = Field(False, description="Whether their own chains go.")

    def apply(self, mix: Mix) -> Mix:
        strip = strip_of(mix, self.strip)
        chosen = tuple(processor_at(strip, n) for n in (self.places or range(len(strip.chain))))
        others = self._others()
        if not chosen:
            raise InputError(f"{strip.name} has no processors to copy.")
        if self.replace:
            for other in others:
                mix = replace_chain(mix, other, chosen)
            return mix
        return changed(mix, others, lambda other: {"chain": (*other.chain, *chosen)})

    def describe(self, mix: Mix) -> str:
        strip = strip_of(mix, self.strip)
        what = processor_at(strip, self.places[0]).title if self.places else "the chain"
        others, instead = len(self._others()), " in place of theirs" if self.replace else ""
        return f"Copied {what} of {strip.name} to {others} more{instead}"

    def _others(self) -> list[str]:
        others = [strip_id for strip_id in self.to if strip_id != self.strip]
        if not others:
            raise InputError("Tick the tracks to copy to in the table or on the map first.")
        return others


class SetChain(Command):
    """Replace the whole chain of a strip, as from a starting point.

    The old chain's automation goes.
    """

    kind: Literal["set_chain"] = "set_chain"
    strip: Identifier
    chain: tuple[AnyProcessor, ...]
    name: Name = Field(
        "a starting point", max_length=120, description="What the chain is called in the history."
    )

    def apply(self, mix: Mix) -> Mix:
        return replace_chain(mix, self.strip, self.chain)

    def describe(self, mix: Mix) -> str:
        return f"{strip_of(mix, self.strip).name} starts from {self.name}"


class AddBand(Command):
    """Add a band to a processor that has bands, at a frequency and with a gain where given."""

    kind: Literal["add_band"] = "add_band"
    strip: Identifier
    place: int = Place
    shape: str = "bell"
    frequency_hz: float | None = None
    gain_db: float | None = None

    def apply(self, mix: Mix) -> Mix:
        strip = strip_of(mix, self.strip)
        held = _banded(strip, self.place)
        values = {name: getattr(held, name) for name in type(held).model_fields}
        band = {"shape": self.shape, "frequency_hz": self.frequency_hz, "gain_db": self.gain_db}
        given = {name: value for name, value in band.items() if value is not None}
        try:
            new = type(held).model_validate({**values, "bands": [*values["bands"], given]})
        except ValidationError as error:
            raise InputError(f"{held.title}: {error.errors()[0]['msg']}.") from None
        return _with_processor(mix, strip, self.place, new)

    def describe(self, mix: Mix) -> str:
        strip = strip_of(mix, self.strip)
        held = _banded(strip, self.place)
        return f"{strip.name}, {held.title.lower()}: band {len(held.bands) + 1} added"  # type: ignore[attr-defined]


class RemoveBand(Command):
    """Take a band away, with its automation."""

    kind: Literal["remove_band"] = "remove_band"
    strip: Identifier
    place: int = Place
    band: int = counted("Which band, counted from 0.")

    def apply(self, mix: Mix) -> Mix:
        strip = strip_of(mix, self.strip)
        bands = list(_banded(strip, self.place).bands)  # type: ignore[attr-defined]
        if self.band >= len(bands):
            raise Vanished("This band is no longer there; look again.")
        del bands[self.band]
        later = {n: n - 1 for n in range(self.band + 1, len(bands) + 1)}
        mix = renumbered(mix, f"{self.strip}/chain/{self.place}/bands", {self.band: None, **later})
        fewer = strip.chain[self.place].model_copy(update={"bands": tuple(bands)})
        return _with_processor(mix, strip, self.place, fewer)

    def describe(self, mix: Mix) -> str:
        strip = strip_of(mix, self.strip)
        title = _banded(strip, self.place).title.lower()
        return f"{strip.name}, {title}: band {self.band + 1} removed"


def _banded(strip: Strip, place: int) -> Processor:
    held = processor_at(strip, place)
    if "bands" not in type(held).model_fields:
        raise InputError(f"{held.title} has no bands.")
    return held
