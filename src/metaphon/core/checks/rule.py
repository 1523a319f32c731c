"""What a module of `findings` declares: a rule, why it matters, and its mend."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from metaphon.core.checks.finding import Finding
from metaphon.core.checks.sound import Sound
from metaphon.core.document.mix import Bus, Mix, Strip, Track
from metaphon.core.edits.command import Command

Notice = Callable[[Mix], Iterator[Finding]]
Listen = Callable[[Mix, Sound], Iterator[Finding]]
MendCommand = Callable[[Mix, Finding], Command]


@dataclass(frozen=True)
class Mend:
    """One way to take a fault away: its words on the button, its command, and what it costs."""

    label: str
    command: MendCommand
    cost: str = ""


@dataclass(frozen=True)
class Rule:
    """A finding that may be made. It notices from the mix alone, or listens to its sound.

    One of the two.

    `order` says where it is told among the others. There are no `mends` where no single step can.
    """

    name: str
    order: int
    why: str
    notice: Notice | None = None
    listen: Listen | None = None
    mends: tuple[Mend, ...] = ()


def awake(mix: Mix) -> Iterator[Strip]:
    """The strips that may sound: buses, and tracks with a recording, that do not rest."""
    for strip in mix.strips:
        if not strip.resting and (
            isinstance(strip, Bus) or (isinstance(strip, Track) and strip.clips)
        ):
            yield strip
