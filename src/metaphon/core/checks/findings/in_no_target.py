"""A strip that goes to the mix and has no placement."""

from collections.abc import Iterator

from metaphon.core.checks.finding import Finding
from metaphon.core.checks.rule import Mend, Rule, awake
from metaphon.core.document.mix import PROGRAMME, Mix
from metaphon.core.edits.arrangement import Place
from metaphon.core.edits.command import Command, strip_of


def _notice(mix: Mix) -> Iterator[Finding]:
    for strip in awake(mix):
        if strip.output == PROGRAMME and strip.placement.mode == "none":
            message = (
                f"{strip.name} goes to the mix but has no placement, so no target contains "
                "it; place it."
            )
            yield Finding("in_no_target", "problem", strip.id, message)


def _mend(mix: Mix, finding: Finding) -> Command:
    layout = strip_of(mix, finding.subject).placement.layout
    return Place(strips=(finding.subject,), mode=layout)


RULE = Rule(
    "in_no_target",
    20,
    "It is routed and still missing from every result.",
    notice=_notice,
    mends=(Mend("Place as bed", _mend),),
)
