"""A strip that is louder than full scale after its fader."""

import math
from collections.abc import Iterator

from metaphon.core.checks.finding import Finding
from metaphon.core.checks.rule import Mend, Rule
from metaphon.core.checks.sound import Sound
from metaphon.core.document.mix import Mix
from metaphon.core.edits.command import Command, strip_of
from metaphon.core.edits.values import SetValue


def _listen(mix: Mix, sound: Sound) -> Iterator[Finding]:
    names = {strip.id: strip.name for strip in mix.strips}
    for strip_id, level in sound.levels.items():
        if level.peak_dbfs is not None and level.peak_dbfs > 0.0:
            over = math.ceil(level.peak_dbfs * 10) / 10
            message = (
                f"{names[strip_id]} reaches {level.peak_dbfs:+.1f} dBFS after its fader; "
                "nothing is cut off inside, "
                f"but printed or handed over as a stem it would be. Turn it down by {over:.1f} dB."
            )
            yield Finding("clips_inside", "warning", strip_id, message, amount=over)


def _mend(mix: Mix, finding: Finding) -> Command:
    gain_db = strip_of(mix, finding.subject).gain_db
    return SetValue(
        strips=(finding.subject,), path="gain_db", value=round(gain_db - finding.amount, 1)
    )


RULE = Rule(
    "clips_inside",
    120,
    "A print or stem in whole numbers would be cut off.",
    listen=_listen,
    mends=(Mend("Turn it down", _mend),),
)
