"""A stereo track that is lost in mono."""

from collections.abc import Iterator

import numpy as np

from metaphon.core.checks.finding import Finding
from metaphon.core.checks.rule import Mend, Rule
from metaphon.core.checks.sound import Sound
from metaphon.core.document.mix import Mix
from metaphon.core.document.value_paths import value_at
from metaphon.core.edits.chain_places import basics_place
from metaphon.core.edits.command import Command, strip_of
from metaphon.core.edits.values import SetValue
from metaphon.core.measure.correlation import correlation
from metaphon.core.measure.powers import sums_of_products


def _listen(mix: Mix, sound: Sound) -> Iterator[Finding]:
    for track in sound.tracks:
        if sound.channels_of(track) != 2:
            continue
        block = sound.read(track)
        for processor in track.chain:
            if processor.matrix(2) is not None and not processor.bypassed:
                block = processor.apply(block, sound.rate_hz)
        frames = max(block.shape[1], 1)
        left, right, product = sums_of_products(block, frames).sum(axis=0) / frames
        value = correlation(left, right, product)
        if value is not None and value < -0.1:
            message = (
                f"{track.name} is too wide: its correlation is {value:.2f}, and much of it "
                "is lost in mono; narrow it."
            )
            mid, side = left + right + 2.0 * product, left + right - 2.0 * product
            # a side as strong as the mid is what unrelated sides have: correlation 0
            width = round(float(np.sqrt(mid / side)), 2)
            yield Finding("too_wide", "warning", track.id, message, amount=width)


def _mend(mix: Mix, finding: Finding) -> Command:
    place = basics_place(mix, finding.subject)
    width = (
        1.0
        if place is None
        else float(value_at(strip_of(mix, finding.subject), ("chain", place, "width")))
    )
    return SetValue(strips=(finding.subject,), path="basics/width", value=width * finding.amount)


RULE = Rule(
    "too_wide",
    130,
    "Listeners in mono lose it.",
    listen=_listen,
    mends=(Mend("Narrow it", _mend),),
)
