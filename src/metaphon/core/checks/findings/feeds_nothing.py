"""A strip whose sound goes nowhere."""

from collections.abc import Iterator

from metaphon.core.checks.finding import Finding
from metaphon.core.checks.rule import Mend, Rule, awake
from metaphon.core.document.mix import PROGRAMME, Mix
from metaphon.core.edits.command import Command
from metaphon.core.edits.routing import Route


def _notice(mix: Mix) -> Iterator[Finding]:
    for strip in awake(mix):
        if strip.output is None and not strip.sends:
            message = f"{strip.name} feeds nothing; give it an output or rest it."
            yield Finding("feeds_nothing", "problem", strip.id, message)


def _mend(mix: Mix, finding: Finding) -> Command:
    return Route(strips=(finding.subject,), to=PROGRAMME)


RULE = Rule(
    "feeds_nothing",
    10,
    "Nobody will hear it.",
    notice=_notice,
    mends=(Mend("Feed the mix", _mend),),
)
