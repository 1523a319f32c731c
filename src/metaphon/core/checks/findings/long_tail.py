"""A space that sounds long after the last recording has ended."""

from collections.abc import Iterator

from metaphon.core.checks.finding import Finding
from metaphon.core.checks.rule import Rule
from metaphon.core.checks.space_tails import spaces_of
from metaphon.core.document.mix import Mix

_LONG_S = 5.0  # common practice, no source: longer than a fade to black


def _notice(mix: Mix) -> Iterator[Finding]:
    for bus in spaces_of(mix):
        tail_s = sum(
            one.tail_s(mix.sample_rate_hz)
            for one in bus.chain
            if not one.bypassed and one.is_reverb
        )
        if tail_s > _LONG_S:
            message = (
                f"{bus.name} sounds for {tail_s:.1f} s after the last recording; renders carry it "
                "to its end, so leave room for it or shorten the decay."
            )
            yield Finding("long_tail", "note", bus.id, message, amount=tail_s)


RULE = Rule(
    "long_tail",
    78,
    "What ends with the last recording would cut the tail; the render is longer than the picture.",
    notice=_notice,
)
