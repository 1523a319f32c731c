"""One recording on two tracks, or a side of a stereo recording again as a track of its own."""

from collections.abc import Iterator

from metaphon.core.checks.finding import Finding
from metaphon.core.checks.findings.late import LATE_MS
from metaphon.core.checks.rule import Mend, Rule
from metaphon.core.checks.sound import Sound
from metaphon.core.document.mix import Mix
from metaphon.core.edits.values import SetValue


def _listen(mix: Mix, sound: Sound) -> Iterator[Finding]:
    for pair in sound.alike:
        if not pair.copied or pair.inverted or abs(pair.delay_ms) >= LATE_MS:
            continue  # said by other rules
        # the one that is only a side of the other is the one too many
        again, whole = pair.other, pair.first_named
        if pair.other_side and not pair.first_side:
            again, whole = pair.first, pair.other_named
        kept = pair.first if again is pair.other else pair.other
        message = f"{again.name} is {whole} again; the sound is heard twice."
        yield Finding("same_recording", "warning", again.id, message, kept.id)


RULE = Rule(
    "same_recording",
    145,
    "It is up to 6 dB louder than meant, and pulls the stereo picture to one side.",
    listen=_listen,
    mends=(
        Mend(
            "Put it to rest",
            lambda mix, finding: SetValue(strips=(finding.subject,), path="resting", value=True),
            "The track stays in the list and can be woken.",
        ),
    ),
)
