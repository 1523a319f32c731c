"""A voice that its reverb makes hard to follow."""

import re
from collections.abc import Iterator

import numpy as np

from metaphon.core.checks.finding import Finding
from metaphon.core.checks.rule import Mend, Rule
from metaphon.core.checks.sound import Sound
from metaphon.core.checks.space_tails import SpaceTail, space_tail, spaces_of
from metaphon.core.document.mix import Mix, Track
from metaphon.core.edits.command import Command, strip_of
from metaphon.core.edits.registry import Batch
from metaphon.core.edits.values import SetValue

_VOICE = re.compile(r"narrat|voice|vocal|speech|speak|dialog|commentar|sing", re.IGNORECASE)
# early against late energy below which syllables run together: common practice, no source
LEAST_C50_DB = 3.0
_SPARE_DB = 0.5


def clarity_db(track: Track, levels: dict[str, float], tails: dict[str, SpaceTail]) -> float | None:
    """C50 of a voice with its spaces together, by the levels of the buses in dB; None without."""
    early, late = 1.0, 0.0
    for send in track.sends:
        if send.bus not in tails or send.muted:
            continue
        level_db = send.level_db + levels[send.bus]
        level_db -= track.gain_db if send.tap != "post" else 0.0
        power = 10.0 ** (level_db / 10.0)
        early += power * tails[send.bus].early
        late += power * tails[send.bus].late
    return float(10.0 * np.log10(early / late)) if late > 0.0 else None


def _listen(mix: Mix, sound: Sound) -> Iterator[Finding]:
    voices = [track for track in sound.tracks if _VOICE.search(track.name)]
    sent = {send.bus for track in voices for send in track.sends}
    buses = [bus for bus in spaces_of(mix) if bus.id in sent and not bus.muted]
    tails = {bus.id: space_tail(mix, bus) for bus in buses}
    levels = {bus.id: bus.gain_db for bus in buses}
    for track in voices:
        clear = clarity_db(track, levels, tails)
        if clear is not None and clear < LEAST_C50_DB:
            message = (
                f"{track.name} is hard to follow in its reverb: C50 is {clear:.1f} dB, "
                f"{LEAST_C50_DB:.0f} are wanted; send less of it."
            )
            lower = LEAST_C50_DB - clear + _SPARE_DB
            yield Finding("unclear_voice", "warning", track.id, message, amount=lower)


def _mend(mix: Mix, finding: Finding) -> Command:
    track = strip_of(mix, finding.subject)
    spaces = {bus.id for bus in spaces_of(mix)}
    steps = [
        SetValue(
            strips=(track.id,),
            path=f"sends/{send.bus}/level_db",
            value=round(send.level_db - finding.amount, 1),
        )
        for send in track.sends
        if send.bus in spaces
    ]
    return Batch(commands=tuple(steps))


RULE = Rule(
    "unclear_voice",
    75,
    "Words are understood by what comes in their first 50 ms.",
    listen=_listen,
    mends=(Mend("Send less", _mend),),
)
