"""A send to a bus that is muted."""

from collections.abc import Iterator

from metaphon.core.checks.finding import Finding
from metaphon.core.checks.rule import Mend, Rule, awake
from metaphon.core.document.mix import Mix
from metaphon.core.edits.command import Command
from metaphon.core.edits.values import SetValue


def _notice(mix: Mix) -> Iterator[Finding]:
    muted = {bus.id: bus.name for bus in mix.buses if bus.muted}
    for strip in awake(mix):
        for send in strip.sends:
            if send.bus in muted and not send.muted and not strip.muted:
                message = (
                    f"{strip.name} sends to {muted[send.bus]}, which is muted; unmute it "
                    "or take the send away."
                )
                yield Finding("send_into_muted", "warning", strip.id, message, send.bus)


def _mend(mix: Mix, finding: Finding) -> Command:
    return SetValue(strips=(finding.other,), path="muted", value=False)


RULE = Rule(
    "send_into_muted",
    50,
    "The send does nothing while the bus is muted.",
    notice=_notice,
    mends=(Mend("Unmute the bus", _mend),),
)
