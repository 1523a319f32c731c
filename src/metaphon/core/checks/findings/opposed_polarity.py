"""Two recordings of one sound with opposite polarity."""

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


def _listen(mix: Mix, sound: Sound) -> Iterator[Finding]:
    for pair in sound.alike:
        if pair.inverted:
            names = f"{pair.other_named} and {pair.first_named}"
            message = f"{names} are the same sound with opposite polarity; invert one of them."
            yield Finding(
                "opposed_polarity",
                "problem",
                pair.other.id,
                sentence_case(message),
                pair.first.id,
            )


def _mend(mix: Mix, finding: Finding) -> Command:
    place = basics_place(mix, finding.subject)
    path = ("chain", place or 0, "polarity_inverted")
    held = False if place is None else bool(value_at(strip_of(mix, finding.subject), path))
    return SetValue(strips=(finding.subject,), path="basics/polarity_inverted", value=not held)


RULE = Rule(
    "opposed_polarity",
    140,
    "Together they cancel, most in the bass.",
    listen=_listen,
    mends=(Mend("Invert it", _mend),),
)
