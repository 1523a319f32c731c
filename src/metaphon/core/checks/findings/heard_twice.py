"""The dry sound reaches the mix by two ways: straight and through a bus, or through two buses.

Or it reaches one bus by two ways: as what feeds it, and as a send.
"""

from collections.abc import Iterator

from metaphon.core.checks.finding import Finding
from metaphon.core.checks.rule import Mend, Rule, awake
from metaphon.core.document.mix import PROGRAMME, Mix, Send
from metaphon.core.edits.command import Command, strip_of
from metaphon.core.edits.registry import Batch
from metaphon.core.edits.routing import RemoveSend, Route


def _notice(mix: Mix) -> Iterator[Finding]:
    names = {bus.id: bus.name for bus in mix.buses}
    dry = _dry_ways(mix)
    for strip in awake(mix):
        ways = [
            aim
            for aim in dict.fromkeys([strip.output, *(s.bus for s in strip.sends if not s.muted)])
            if aim in dry
        ]
        for extra in ways[1:]:
            first = (
                "straight in the mix" if ways[0] == PROGRAMME else f"through {names[str(ways[0])]}"
            )
            message = (
                f"{strip.name} is heard twice: {first} and through {names[str(extra)]}; "
                "take one of the two."
            )
            yield Finding("heard_twice", "problem", strip.id, message, str(extra))
        for send in strip.sends:
            if send.bus == strip.output and not send.muted:
                message = (
                    f"{strip.name} is heard twice: it feeds {names[send.bus]} and is sent to it as "
                    "well; take one of the two."
                )
                yield Finding("heard_twice", "problem", strip.id, message, send.bus)


def _dry_ways(mix: Mix) -> set[str]:
    """The programme.

    And every bus that passes what it gets on to it without a reverb on the way.
    """
    found = {PROGRAMME}
    while True:
        more = {
            bus.id
            for bus in mix.buses
            if bus.id not in found
            and not (bus.muted or bus.resting)
            and not any(p.is_reverb for p in bus.chain)
            and (
                bus.output in found
                or any(send.bus in found and not send.muted for send in bus.sends)
            )
        }
        if not more:
            return found
        found |= more


def _mend(mix: Mix, finding: Finding) -> Command:
    """Out of the main mix; a plain send becomes the feed, and a send with a level of its own stays.

    A second bus is left.
    """
    strip = strip_of(mix, finding.subject)
    unsend = RemoveSend(strips=(strip.id,), bus=finding.other)
    if strip.output != PROGRAMME:
        return unsend
    if Send(bus=finding.other, level_db=0.0) in strip.sends:
        return Batch(commands=(unsend, Route(strips=(strip.id,), to=finding.other)))
    return Route(strips=(strip.id,), to=None)


RULE = Rule(
    "heard_twice",
    40,
    "It is up to 6 dB louder than meant, and fades and mutes of the bus miss half of it.",
    notice=_notice,
    mends=(Mend("Only through the bus", _mend),),
)
