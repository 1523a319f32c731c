"""A space whose two sides are alike, or against each other: what is left of it in mono."""

from collections.abc import Iterator

from metaphon.core.checks.finding import Finding
from metaphon.core.checks.rule import Rule
from metaphon.core.checks.sound import Sound
from metaphon.core.checks.space_tails import space_tail, spaces_of
from metaphon.core.document.mix import Mix

_AGAINST, _ALIKE = -0.3, 0.9


def _listen(mix: Mix, sound: Sound) -> Iterator[Finding]:
    for bus in spaces_of(mix):
        found = space_tail(mix, bus).correlation
        if found is None:
            continue
        if found < _AGAINST:
            message = (
                f"The sides of {bus.name} are against each other (correlation {found:.2f}), so it "
                "fades in mono; turn one side over or choose another response."
            )
            yield Finding("one_sided_space", "warning", bus.id, message, amount=found)
        elif found > _ALIKE:
            message = (
                f"Both sides of {bus.name} are alike (correlation {found:.2f}), so it is no wider "
                "than what is sent to it; widen it or choose another response."
            )
            yield Finding("one_sided_space", "note", bus.id, message, amount=found)


RULE = Rule(
    "one_sided_space",
    76,
    "A room is heard round us because its sides have little in common.",
    listen=_listen,
)
