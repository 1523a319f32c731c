"""A reverb that is held and never let go: its tail has no end."""

from collections.abc import Iterator

from metaphon.core.checks.finding import Finding
from metaphon.core.checks.rule import Mend, Rule, awake
from metaphon.core.document.lanes import lanes_of
from metaphon.core.document.mix import Mix, Strip
from metaphon.core.edits.command import Command, strip_of
from metaphon.core.edits.lane_edits import RemoveLane
from metaphon.core.edits.registry import Batch
from metaphon.core.edits.values import SetValue


def _held(mix: Mix, strip: Strip) -> Iterator[str]:
    """The paths of the holds that are on at the end."""
    lanes = lanes_of(mix, strip.id)
    for place, one in enumerate(strip.chain):
        path = f"chain/{place}/hold"
        lane = lanes.get(path)
        last = float(lane.points.values[-1]) if lane else getattr(one, "hold", 0.0)
        if last >= 0.5 and not one.bypassed:
            yield path


def _notice(mix: Mix) -> Iterator[Finding]:
    for strip in awake(mix):
        if any(_held(mix, strip)):
            message = (
                f"{strip.name} is held to the end of the mix, where its tail is cut; let it go "
                "before."
            )
            yield Finding("held_at_end", "warning", strip.id, message)


def _mend(mix: Mix, finding: Finding) -> Command:
    strip = strip_of(mix, finding.subject)
    lanes = lanes_of(mix, strip.id)
    steps: list[Command] = []
    for path in _held(mix, strip):
        steps += [RemoveLane(strip=strip.id, path=path)] if path in lanes else []
        steps.append(SetValue(strips=(strip.id,), path=path, value=0.0))
    return Batch(commands=tuple(steps))


RULE = Rule(
    "held_at_end",
    72,
    "A held tail has no end of its own, so a render ends it abruptly.",
    notice=_notice,
    mends=(Mend("Let it go", _mend, "A lane of the hold goes."),),
)
