"""Two recordings of one sound, one of them later."""

from collections.abc import Iterator

from metaphon.core.checks.finding import Finding
from metaphon.core.checks.rule import Rule
from metaphon.core.checks.sound import Sound
from metaphon.core.document.mix import Mix
from metaphon.core.document.value_paths import value_at
from metaphon.core.edits.chain_places import basics_place
from metaphon.core.edits.command import Command, strip_of
from metaphon.core.edits.values import SetValue

_LATE_MS = 0.1


def _listen(mix: Mix, sound: Sound) -> Iterator[Finding]:
    for pair in sound.alike:
        if abs(pair.delay_ms) < _LATE_MS:
            continue
        late, ahead = (pair.other, pair.first) if pair.delay_ms > 0 else (pair.first, pair.other)
        message = (
            f"{late.name} is {abs(pair.delay_ms):.2f} ms later than {ahead.name} with "
            "the same sound; "
            f"delay {ahead.name} by as much."
        )
        yield Finding("late", "warning", late.id, message, ahead.id, abs(pair.delay_ms))


def _mend(mix: Mix, finding: Finding) -> Command:
    place = basics_place(mix, finding.other)
    held = (
        0.0
        if place is None
        else float(value_at(strip_of(mix, finding.other), ("chain", place, "delay_ms")))
    )
    return SetValue(
        strips=(finding.other,), path="basics/delay_ms", value=round(held + finding.amount, 4)
    )


RULE = Rule(
    "late",
    150,
    "Together they sound hollow: a comb of cancellations.",
    listen=_listen,
    mend_label="Delay the other",
    mend=_mend,
)
