"""A space whose bass sounds much longer than its middle."""

from collections.abc import Iterator

from metaphon.core.checks.finding import Finding
from metaphon.core.checks.rule import Mend, Rule
from metaphon.core.checks.sound import Sound
from metaphon.core.checks.space_tails import space_tail, spaces_of
from metaphon.core.document.mix import Mix
from metaphon.core.edits.command import Command, strip_of
from metaphon.core.edits.registry import Batch
from metaphon.core.edits.values import SetValue

# bass ratios of halls that are praised reach 1.45 (L. Beranek, Concert halls and opera houses,
# 2004; from memory)
_MOST = 1.7
_CUT_HZ = 120.0


def _listen(mix: Mix, sound: Sound) -> Iterator[Finding]:
    for bus in spaces_of(mix):
        cut = max(getattr(one, "low_cut_hz", 0.0) for one in bus.chain if one.is_reverb)
        if cut >= _CUT_HZ:
            continue
        tail = space_tail(mix, bus)
        bass, middle = tail.decay_s(125.0), tail.decay_s(1000.0)
        if bass and middle and bass > _MOST * middle:
            message = (
                f"The bass of {bus.name} sounds {bass / middle:.1f} times as long as its middle "
                f"({bass:.1f} s at 125 Hz); shorten it or cut below {_CUT_HZ:.0f} Hz."
            )
            yield Finding("low_build_up", "note", bus.id, message, amount=bass / middle)


def _mend(mix: Mix, finding: Finding) -> Command:
    chain = strip_of(mix, finding.subject).chain
    steps = [
        SetValue(strips=(finding.subject,), path=f"chain/{n}/low_cut_hz", value=_CUT_HZ)
        for n, one in enumerate(chain)
        if one.is_reverb
    ]
    return Batch(commands=tuple(steps))


RULE = Rule(
    "low_build_up",
    77,
    "Bass that stays covers what comes after it.",
    listen=_listen,
    mends=(Mend(f"Cut below {_CUT_HZ:.0f} Hz", _mend),),
)
