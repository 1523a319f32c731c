"""All that listening through a mix tells of it, as plain data."""

from dataclasses import asdict, dataclass
from typing import Any

from metaphon.core.checks.rules import listened
from metaphon.core.checks.sound import Sound
from metaphon.core.document.mix import Mix


@dataclass(frozen=True)
class Heard:
    """What the rules that listen noticed, the level of every strip by its id, likely pairs."""

    findings: list[dict[str, Any]]
    levels: dict[str, dict[str, Any]]
    pairs: list[dict[str, Any]]


def survey(mix: Mix) -> Heard:
    """Listen through a mix.

    Raises InputError where there is nothing to hear or a recording is missing.
    """
    sound = Sound(mix)
    pairs = [
        {
            **{"first": pair.first.id, "other": pair.other.id},
            **{"first_side": pair.first_side, "other_side": pair.other_side},
            **{"delay_ms": pair.delay_ms, "inverted": pair.inverted},
        }
        for pair in sound.alike
        if not pair.copied
    ]
    return Heard(
        [asdict(finding) for finding in listened(mix, sound)],
        {strip_id: asdict(level) for strip_id, level in sound.levels.items()},
        pairs,
    )
