"""What a command is, and the one way to carry one out."""

import unicodedata
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Mapping
from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Field

from metaphon.core.document.graph import ordered
from metaphon.core.document.links import kept_alike
from metaphon.core.document.mix import Mix, Strip, Track, hangs_together
from metaphon.core.document.part import Identifier
from metaphon.core.errors import InputError, Vanished, sentence_case

Strips = Annotated[
    tuple[Identifier, ...], Field(min_length=1, description="The ids of tracks and buses.")
]


_MOST = 1_000_000  # of anything that is counted


def counted(description: str, default: Any = ...) -> Any:
    """Declare a place in an order, from 0."""
    return Field(default, ge=0, le=_MOST, description=description)


class Command(BaseModel, ABC):
    """A change to a mix, as data. `apply` gives the changed mix; nothing else is touched."""

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)

    @abstractmethod
    def apply(self, mix: Mix) -> Mix:
        """The mix with this change made. Raises InputError in one sentence where it cannot be."""

    @abstractmethod
    def describe(self, mix: Mix) -> str:
        """What the history says of it, given the mix before."""


def apply(mix: Mix, command: Command) -> Mix:
    """Carry a command out and see that the mix still hangs together.

    Parameters
    ----------
    mix : Mix
        Before the change.
    command : Command
        The change.

    Returns
    -------
    Mix
        After it. What the command does not touch is the very same object as before.

    Raises
    ------
    InputError
        In one sentence, where the command cannot be carried out or would leave something that
        refers to nothing, or
        a routing that runs in a loop.
    """
    after = kept_alike(mix, command.apply(mix))
    if _structure(after) != _structure(mix):
        try:
            hangs_together(after)
        except ValueError as error:
            raise InputError(sentence_case(f"{error}.")) from None
        ordered(after)
    return after


def _structure(mix: Mix) -> list[Any]:
    """All that ids, routing and the targets of lanes depend on."""
    strips = [
        (
            strip.id,
            strip.group,
            strip.output,
            tuple(send.bus for send in strip.sends),
            _shape(strip),
        )
        for strip in mix.strips
    ]
    return [strips, [group.id for group in mix.groups], [lane.target for lane in mix.automation]]


def _shape(strip: Strip) -> tuple[Any, ...]:
    chain = tuple(
        (processor.kind, len(getattr(processor, "bands", ()))) for processor in strip.chain
    )
    return chain, strip.print_of if isinstance(strip, Track) else None


def strip_of(mix: Mix, strip_id: str) -> Strip:
    """A strip by its id. Raises Vanished where it is gone."""
    strip = mix.find_strip(strip_id)
    if strip is None:
        raise Vanished("This track is no longer in the mix.")
    return strip


def bus_of(mix: Mix, bus_id: str) -> Strip:
    """A bus by its id. Raises Vanished where it is gone."""
    bus = next((bus for bus in mix.buses if bus.id == bus_id), None)
    if bus is None:
        raise Vanished("This bus is no longer in the mix; choose another.")
    return bus


def changed(mix: Mix, strip_ids: Iterable[str], change: Callable[[Any], Mapping[str, Any]]) -> Mix:
    """The mix with fields of some strips set, as `change` says of each.

    Raises Vanished where one is gone.
    """
    wanted = set(strip_ids)
    for strip_id in wanted - {strip.id for strip in mix.strips}:
        strip_of(mix, strip_id)

    def one(strip: Any) -> Any:
        update = change(strip) if strip.id in wanted else {}
        return strip.model_copy(update=dict(update)) if update else strip

    return mix.with_strips(one)


def names(mix: Mix, strip_ids: Iterable[str]) -> str:
    """How the history names strips: the first, and how many more."""
    found = [strip_of(mix, strip_id).name for strip_id in strip_ids]
    return found[0] if len(found) == 1 else f"{found[0]} and {len(found) - 1} more"


def free_id(mix: Mix, name: str, otherwise: str) -> str:
    """An id made of a name that no strip of the mix has yet."""
    wanted = plain_id(name, otherwise)
    taken = {strip.id for strip in mix.strips} | {"programme"}
    return first_free(wanted, taken, "_{}")


def plain_id(name: str, otherwise: str) -> str:
    """An id made of a name; `otherwise` where nothing of it can stand in one."""
    letters = unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode().lower()
    plain = "".join(letter if letter.isalnum() else "_" for letter in letters)
    return "_".join(part for part in plain.split("_") if part)[:50] or otherwise


def first_free(wanted: str, taken: set[str], pattern: str) -> str:
    """A name, or where it is taken the name with the first number that makes it free."""
    number, name = 2, wanted
    while name in taken:
        name = wanted + pattern.format(number)
        number += 1
    return name
