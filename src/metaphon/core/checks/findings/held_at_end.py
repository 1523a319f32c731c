"""A reverb that is held and never let go: the mix goes on after its last recording."""

from collections.abc import Iterator

from metaphon.core.checks.finding import Finding
from metaphon.core.checks.rule import Mend, Rule, awake
from metaphon.core.document.held_tails import held_at_end
from metaphon.core.document.lanes import lanes_of
from metaphon.core.document.mix import Mix
from metaphon.core.edits.command import Command, strip_of
from metaphon.core.edits.lane_edits import RemoveLane
from metaphon.core.edits.registry import Batch
from metaphon.core.edits.values import SetValue

_UNTIL = {
    "time": "{seconds:g} s after the last recording",
    "marker": "the last marker, or {seconds:g} s after the last recording",
    "released": "it is let go while playing; renders let go after {seconds:g} s",
}


def _notice(mix: Mix) -> Iterator[Finding]:
    for strip in awake(mix):
        for held in held_at_end(mix, strip):
            processor = strip.chain[held.place]
            until = _UNTIL[processor.hold_end].format(seconds=processor.hold_end_s)
            message = f"{strip.name} is held at the end of the mix: it goes on until {until}."
            yield Finding("held_at_end", "note", strip.id, message)
            break


def _mend(mix: Mix, finding: Finding) -> Command:
    strip = strip_of(mix, finding.subject)
    lanes = lanes_of(mix, strip.id)
    steps: list[Command] = []
    for _, path in held_at_end(mix, strip):
        steps += [RemoveLane(strip=strip.id, path=path)] if path in lanes else []
        steps.append(SetValue(strips=(strip.id,), path=path, value=0.0))
    return Batch(commands=tuple(steps))


RULE = Rule(
    "held_at_end",
    72,
    "A hold that is on at the end keeps the mix sounding after its last recording.",
    notice=_notice,
    mends=(Mend("Let it go", _mend, "A lane of the hold goes."),),
)
