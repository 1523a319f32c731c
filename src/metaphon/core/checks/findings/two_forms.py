"""Automation of one position as angles and in the room, where the two no longer say the same."""

from collections.abc import Iterator

from metaphon.core.checks.finding import Finding
from metaphon.core.checks.rule import Mend, Rule, awake
from metaphon.core.document.mix import Mix
from metaphon.core.document.positions import FORMS, kept_apart_deg, other_form, place_lanes
from metaphon.core.edits.command import Command
from metaphon.core.edits.position_forms import DropKeptForm

_APART_DEG = 5.0


def _notice(mix: Mix) -> Iterator[Finding]:
    for strip in awake(mix):
        place = strip.placement
        aside = FORMS[other_form(place.coordinates)]
        if place.mode != "object" or not any(name in aside for name in place_lanes(mix, strip.id)):
            continue
        apart = kept_apart_deg(mix, strip)
        if apart is not None and apart > _APART_DEG:
            used, kept = ("angles", "room") if place.coordinates == "sphere" else ("room", "angles")
            message = (
                f"{strip.name} has automation of its place as angles and in the room, "
                f"{apart:.0f}° apart; the {used} "
                f"are heard. Convert again, or take the kept {kept} lanes away."
            )
            yield Finding("two_forms", "note", strip.id, message)


def _mend(mix: Mix, finding: Finding) -> Command:
    return DropKeptForm(strip=finding.subject)


RULE = Rule(
    "two_forms",
    80,
    "Who goes back to the other form hears another path.",
    notice=_notice,
    mends=(Mend("Drop the kept lanes", _mend),),
)
