"""A reverb on a return that also passes what is sent to it."""

from collections.abc import Iterator

from metaphon.core.checks.finding import Finding
from metaphon.core.checks.rule import Mend, Rule
from metaphon.core.document.mix import Mix
from metaphon.core.edits.command import Command, strip_of
from metaphon.core.edits.registry import Batch
from metaphon.core.edits.values import SetValue


def _notice(mix: Mix) -> Iterator[Finding]:
    sent = {send.bus for strip in mix.strips for send in strip.sends}
    for bus in mix.buses:
        if bus.id in sent and any(p.is_reverb and p.passes_dry for p in bus.chain):
            message = (
                f"The reverb on {bus.name} also passes what is sent to it dry; set it to wet only."
            )
            yield Finding("dry_return", "warning", bus.id, message)


def _mend(mix: Mix, finding: Finding) -> Command:
    chain = strip_of(mix, finding.subject).chain
    dry = [n for n, processor in enumerate(chain) if processor.is_reverb and processor.passes_dry]
    steps = [
        SetValue(strips=(finding.subject,), path=f"chain/{n}/wet_only", value=True) for n in dry
    ]
    return Batch(commands=tuple(steps))


RULE = Rule(
    "dry_return",
    70,
    "The dry sound is doubled, and its place is blurred.",
    notice=_notice,
    mends=(Mend("Wet only", _mend),),
)
