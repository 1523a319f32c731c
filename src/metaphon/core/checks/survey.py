"""All that listening through a mix tells of it, as plain data."""

from dataclasses import asdict
from typing import Any

from metaphon.core.checks.rules import listened
from metaphon.core.checks.sound import Sound
from metaphon.core.document.mix import Mix

Survey = tuple[list[dict[str, Any]], dict[str, dict[str, Any]]]


def survey(mix: Mix) -> Survey:
    """What the rules that listen notice in a mix, and the level of every strip by its id.

    Raises InputError where there is nothing to hear or a recording is missing.
    """
    sound = Sound(mix)
    findings = [asdict(finding) for finding in listened(mix, sound)]
    return findings, {strip_id: asdict(level) for strip_id, level in sound.levels.items()}
