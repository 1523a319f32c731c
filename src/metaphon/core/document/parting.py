"""Buses a second time, so that what goes through them can be told apart."""

from collections.abc import Iterable
from typing import NamedTuple, TypeVar

from metaphon.core.document.graph import destinations, reached
from metaphon.core.document.mix import PROGRAMME, Automation, Bus, Mix, Strip
from metaphon.core.errors import InputError

S = TypeVar("S", bound=Strip)


def again(bus: Bus, suffix: str) -> Bus:
    """A bus a second time, under its id and a suffix; all its ways lead to buses so named."""
    return _leading_to(bus, suffix).model_copy(update={"id": bus.id + suffix})


def lanes_again(mix: Mix, buses: Iterable[str], suffix: str) -> list[Automation]:
    """The lanes of buses that are there a second time."""
    ids = set(buses)
    found = []
    for lane in mix.automation:
        own, _, path = lane.target.partition("/")
        if own in ids:
            target = f"{own}{suffix}/{_path(path, suffix)}"
            found.append(lane.model_copy(update={"target": target}))
    return found


class Parted(NamedTuple):
    """A mix in which what varies is apart, and by the id of a strip whom it carries alone."""

    mix: Mix
    owners: dict[str, str]


def parted(mix: Mix) -> Parted:
    """The mix in which whatever varies goes through buses of its own, and is never muted.

    Raises
    ------
    InputError
        Where one varied strip feeds another.
    """
    varied = [s for one in mix.alternatives.varied if (s := mix.find_strip(one.strip))]
    owners = {strip.id: strip.id for strip in varied}
    fresh: list[Bus] = []
    lanes = list(mix.automation)
    changed = mix
    steps = {bus.id: set(destinations(bus)) for bus in mix.buses}
    for strip in varied:
        suffix = f"+{strip.id}"
        behind = reached(set(destinations(strip)), steps)
        for bus in mix.buses:
            if bus.id not in behind:
                continue
            if bus.id in owners:
                raise InputError(
                    f"{strip.name} feeds {bus.name}, and both differ in alternatives; let one of "
                    "them differ for a file with positions."
                )
            fresh.append(again(bus, suffix))
        owners |= {bus + suffix: strip.id for bus in behind}
        on = {"muted": False, "resting": False}
        changed = changed.with_strip(_leading_to(strip, suffix).model_copy(update=on))
        lanes = [
            lane.model_copy(update={"target": f"{strip.id}/{_path(path, suffix)}"})
            if own == strip.id
            else lane
            for lane in lanes
            for own, _, path in [lane.target.partition("/")]
        ] + lanes_again(mix, behind, suffix)
    update = {"buses": (*changed.buses, *fresh), "automation": tuple(lanes)}
    return Parted(changed.model_copy(update=update), owners)


def _leading_to(strip: S, suffix: str) -> S:
    sends = tuple(send.model_copy(update={"bus": send.bus + suffix}) for send in strip.sends)
    leads_on = strip.output not in (PROGRAMME, None)
    output = f"{strip.output}{suffix}" if leads_on else strip.output
    return strip.model_copy(update={"sends": sends, "output": output})


def _path(path: str, suffix: str) -> str:
    steps = path.split("/")
    if steps[0] == "sends":
        steps[1] += suffix
    return "/".join(steps)
