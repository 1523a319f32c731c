"""A bus that nothing feeds."""

from collections.abc import Iterator

from metaphon.core.checks.finding import Finding
from metaphon.core.checks.rule import Mend, Rule
from metaphon.core.document.graph import destinations
from metaphon.core.document.mix import Mix
from metaphon.core.edits.command import Command
from metaphon.core.edits.values import SetValue


def _notice(mix: Mix) -> Iterator[Finding]:
    if sum(bool(track.clips) for track in mix.tracks) < 2:
        return  # a mix that was only begun: its buses still wait
    fed = {aim for strip in mix.strips for aim in destinations(strip)}
    for bus in mix.buses:
        if bus.id not in fed and not bus.resting:
            message = f"Nothing feeds the bus {bus.name}; route a track to it or rest it."
            yield Finding("bus_without_input", "note", bus.id, message)


def _mend(mix: Mix, finding: Finding) -> Command:
    return SetValue(strips=(finding.subject,), path="resting", value=True)


RULE = Rule(
    "bus_without_input",
    30,
    "It stands in the way and does nothing.",
    notice=_notice,
    mends=(Mend("Rest it", _mend),),
)
