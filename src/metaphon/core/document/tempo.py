"""Times that are said as notes, by the tempo of the mix."""

from typing import TypeVar

from metaphon.core.document.mix import Mix, Strip

S = TypeVar("S", bound=Strip)


def strip_in_time(strip: S, tempo_bpm: float) -> S:
    """A strip whose processors have what their notes say at a tempo; the same where none does."""
    chain = tuple(one.at_tempo(tempo_bpm) for one in strip.chain)
    changed = any(new is not old for new, old in zip(chain, strip.chain, strict=True))
    return strip.model_copy(update={"chain": chain}) if changed else strip


def in_time(mix: Mix) -> Mix:
    """A mix with all notes as times; lanes of such a time count no more than its own value does."""
    return mix.with_strips(lambda strip: strip_in_time(strip, mix.tempo_bpm))
