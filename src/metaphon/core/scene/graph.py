"""Who feeds whom, and the order to work in: every source before what it feeds."""

from collections.abc import Iterable
from graphlib import CycleError, TopologicalSorter

from metaphon.core.errors import InputError
from metaphon.core.scene.mix import PROGRAMME, Mix, Strip


def aims(strip: Strip) -> Iterable[str]:
    """The ids of the buses a strip feeds, by output or send."""
    yield from (send.bus for send in strip.sends)
    if strip.output not in (PROGRAMME, None):
        yield str(strip.output)


def ordered(mix: Mix) -> list[Strip]:
    """All strips, each before every bus it feeds. Raises InputError naming the loop where there is one."""
    by_id = {strip.id: strip for strip in mix.strips}
    sorter: TopologicalSorter[str] = TopologicalSorter(dict.fromkeys(by_id, ()))
    for strip in mix.strips:
        for aim in aims(strip):
            sorter.add(aim, strip.id)
    try:
        return [by_id[strip_id] for strip_id in sorter.static_order()]
    except CycleError as error:
        names = " to ".join(by_id[strip_id].name for strip_id in error.args[1])
        raise InputError(f"The routing runs in a loop, {names}; take one of these feeds away.") from None
