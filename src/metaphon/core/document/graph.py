"""Who feeds whom, the order to work in, and which ways are open under mute and solo."""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from graphlib import CycleError, TopologicalSorter

from metaphon.core.document.mix import PROGRAMME, Mix, Send, Strip
from metaphon.core.errors import InputError


def destinations(strip: Strip) -> Iterable[str]:
    """The ids of the buses a strip feeds, by output or send."""
    yield from (send.bus for send in strip.sends)
    if strip.output not in (PROGRAMME, None):
        yield str(strip.output)


def ordered(mix: Mix) -> list[Strip]:
    """All strips, each before every bus it feeds.

    Raises InputError naming the loop where there is one.
    """
    by_id = {strip.id: strip for strip in mix.strips}
    sorter: TopologicalSorter[str] = TopologicalSorter(dict.fromkeys(by_id, ()))
    for strip in mix.strips:
        for bus in destinations(strip):
            sorter.add(bus, strip.id)
    try:
        return [by_id[strip_id] for strip_id in sorter.static_order()]
    except CycleError as error:
        names = " to ".join(by_id[strip_id].name for strip_id in error.args[1])
        raise InputError(
            f"The routing runs in a loop, {names}; take one of these feeds away."
        ) from None


@dataclass(frozen=True)
class OpenRoutes:
    """What is open: sends and outputs of a strip by its id. A strip with neither sounds nowhere."""

    sends: dict[str, tuple[Send, ...]]
    outputs: dict[str, str]
    lfe: frozenset[str]  # strips whose way to the LFE is open

    def buses_reached_from(self, strip_id: str) -> Iterator[str]:
        """The buses that sound of this strip reaches."""
        yield from (send.bus for send in self.sends.get(strip_id, ()))
        if self.outputs.get(strip_id, PROGRAMME) != PROGRAMME:
            yield self.outputs[strip_id]


def open_routes(mix: Mix) -> OpenRoutes:
    """The ways that carry sound: rest, mute and solo applied (common practice, no source).

    A muted strip sends nothing, before the fader or after it. With something soloed, only ways that
    come from a soloed or solo-safe strip, or lead to a soloed bus, stay open: a soloed track keeps
    its reverb, and a soloed bus all that feeds it.
    """
    awake = {strip.id: strip for strip in mix.strips if not strip.resting}
    sounding = {strip_id: strip for strip_id, strip in awake.items() if not strip.muted}
    soloed = {strip_id for strip_id, strip in sounding.items() if strip.soloed}
    safe = {strip_id for strip_id, strip in sounding.items() if strip.solo_safe}
    below = reached(soloed | safe, {i: set(destinations(strip)) for i, strip in sounding.items()})
    feeding: dict[str, set[str]] = {}
    for strip_id, strip in sounding.items():
        for bus in destinations(strip):
            feeding.setdefault(bus, set()).add(strip_id)
    above = reached(soloed, feeding)

    def is_open(source: str, bus: str) -> bool:
        if bus != PROGRAMME and bus not in awake:
            return False
        return not soloed or source in below or bus in above

    sends = {
        strip_id: tuple(
            send for send in strip.sends if not send.muted and is_open(strip_id, send.bus)
        )
        for strip_id, strip in sounding.items()
    }
    outputs = {
        strip_id: strip.output
        for strip_id, strip in sounding.items()
        if strip.output is not None and is_open(strip_id, strip.output)
    }
    lfe = frozenset(i for i, strip in sounding.items() if strip.lfe.on and is_open(i, PROGRAMME))
    return OpenRoutes(sends, outputs, lfe)


def reached(start: set[str], steps: dict[str, set[str]]) -> set[str]:
    """Where one comes to from some places, these among them, by the steps from each."""
    found, waiting = set(start), list(start)
    while waiting:
        for step in steps.get(waiting.pop(), ()):
            if step not in found:
                found.add(step)
                waiting.append(step)
    return found
