"""A reverb that feeds another, which blurs the first."""

from collections.abc import Iterator

from metaphon.core.checks.finding import Finding
from metaphon.core.checks.rule import Mend, Rule, awake
from metaphon.core.document.mix import PROGRAMME, Mix
from metaphon.core.edits.command import Command, strip_of
from metaphon.core.edits.registry import Batch
from metaphon.core.edits.routing import RemoveSend, Route
from metaphon.core.edits.values import SetValue


def _notice(mix: Mix) -> Iterator[Finding]:
    spaces = {bus.id: bus for bus in mix.buses if bus.has_reverb and not bus.resting}
    for strip in awake(mix):
        if not strip.has_reverb:
            continue
        if sum(one.is_reverb and not one.bypassed for one in strip.chain) > 1:
            message = f"{strip.name} has two reverbs one after the other; bypass one of them."
            yield Finding("reverbs_in_series", "note", strip.id, message)
        sent = [send.bus for send in strip.sends if not send.muted]
        for bus in (spaces[one] for one in dict.fromkeys([*sent, strip.output]) if one in spaces):
            message = (
                f"The reverb of {strip.name} feeds that of {bus.name}; send the dry sound to both "
                "instead."
            )
            yield Finding("reverbs_in_series", "note", strip.id, message, other=bus.id)


def _mend(mix: Mix, finding: Finding) -> Command:
    strip, bus = strip_of(mix, finding.subject), finding.other
    steps: list[Command] = []
    if not bus:
        second = [n for n, one in enumerate(strip.chain) if one.is_reverb and not one.bypassed][1:]
        paths = [f"chain/{n}/bypassed" for n in second]
        steps += [SetValue(strips=(strip.id,), path=path, value=True) for path in paths]
    if any(send.bus == bus for send in strip.sends):
        steps.append(RemoveSend(strips=(strip.id,), bus=bus))
    if strip.output == bus:
        steps.append(Route(strips=(strip.id,), to=PROGRAMME))
    return Batch(commands=tuple(steps))


RULE = Rule(
    "reverbs_in_series",
    74,
    "One space inside another is heard as neither.",
    notice=_notice,
    mends=(Mend("One of them alone", _mend),),
)
