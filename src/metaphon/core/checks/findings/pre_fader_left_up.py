"""A track that is faded out while a send before its fader still sounds."""

from collections.abc import Iterator

from metaphon.core.checks.finding import Finding
from metaphon.core.checks.rule import Mend, Rule, awake
from metaphon.core.document.lanes import lanes_of
from metaphon.core.document.mix import Mix
from metaphon.core.edits.command import Command
from metaphon.core.edits.values import SetValue

_FADED_DB = -60.0


def _notice(mix: Mix) -> Iterator[Finding]:
    names = {bus.id: bus.name for bus in mix.buses}
    moving = {strip.id for strip in mix.strips if "gain_db" in lanes_of(mix, strip.id)}
    for strip in awake(mix):
        if strip.gain_db > _FADED_DB or strip.id in moving or strip.muted:
            continue
        for send in strip.sends:
            if send.tap != "post" and not send.muted and send.level_db > _FADED_DB:
                message = (
                    f"{strip.name} is faded out, but its send to {names[send.bus]} is taken "
                    "before the fader and "
                    "still sounds; take it after the fader."
                )
                yield Finding("pre_fader_left_up", "warning", strip.id, message, send.bus)


def _mend(mix: Mix, finding: Finding) -> Command:
    return SetValue(strips=(finding.subject,), path=f"sends/{finding.other}/tap", value="post")


RULE = Rule(
    "pre_fader_left_up",
    60,
    "A sound that should be gone is still heard.",
    notice=_notice,
    mends=(Mend("After the fader", _mend),),
)
