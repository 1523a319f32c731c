"""Two recordings of one sound, one of them later."""

from collections.abc import Iterator

from metaphon.core.checks.finding import Finding
from metaphon.core.checks.rule import Mend, Rule
from metaphon.core.checks.sound import Sound
from metaphon.core.document.mix import Mix
from metaphon.core.document.value_paths import value_at
from metaphon.core.edits.chain_places import basics_place
from metaphon.core.edits.command import Command, strip_of
from metaphon.core.edits.values import SetValue
from metaphon.core.errors import sentence_case

LATE_MS = 0.1  # what is less counts as at once


def _listen(mix: Mix, sound: Sound) -> Iterator[Finding]:
    for pair in sound.alike:
        if abs(pair.delay_ms) < LATE_MS:
            continue
        late, ahead = (pair.other, pair.first) if pair.delay_ms > 0 else (pair.first, pair.other)
        names = pair.other_named, pair.first_named
        late_named, ahead_named = names if pair.delay_ms > 0 else reversed(names)
        message = sentence_case(
            f"{late_named} is {abs(pair.delay_ms):.2f} ms later than {ahead_named} with the same "
            "sound; pull it forward, or hold the other back."
        )
        yield Finding("late", "warning", late.id, message, ahead.id, abs(pair.delay_ms))


def _moved(mix: Mix, strip_id: str, by_ms: float) -> Command:
    place = basics_place(mix, strip_id)
    held = 0.0
    if place is not None:
        held = float(value_at(strip_of(mix, strip_id), ("chain", place, "delay_ms")))
    return SetValue(strips=(strip_id,), path="basics/delay_ms", value=round(held + by_ms, 4))


RULE = Rule(
    "late",
    150,
    "Together they sound hollow: a comb of cancellations.",
    listen=_listen,
    mends=(
        Mend(
            "Pull it forward",
            lambda mix, finding: _moved(mix, finding.subject, -finding.amount),
            "All else stays in time; the engine works as much further ahead.",
        ),
        Mend(
            "Hold the other back",
            lambda mix, finding: _moved(mix, finding.other, finding.amount),
            "No working ahead, but the other then comes late against everything else.",
        ),
    ),
)
