"""What is found, as it is shown: with the track or bus it is about, and why somebody leaves it."""

from dataclasses import dataclass

from metaphon.core.checks.finding import Finding
from metaphon.core.checks.rule import Rule
from metaphon.core.checks.rules import RULES
from metaphon.core.document.mix import Mix as Document
from metaphon.core.document.mix import Strip
from metaphon.web.jobs.models import LeftFinding
from metaphon.web.jobs.surveying import Found
from metaphon.web.mixes.models import Mix

_ORDER = {"problem": 0, "warning": 1, "note": 2}


@dataclass(frozen=True)
class Row:
    """A finding as it is shown, with the track or bus it is about."""

    finding: Finding
    strip: Strip
    rule: Rule
    reason: str = ""  # why somebody leaves it

    @property
    def key(self) -> str:
        """What it is known by in the page."""
        return f"{self.finding.rule}-{self.finding.subject}-{self.finding.other}"


def rows_of(mix: Mix, document: Document, found: Found) -> list[Row]:
    """What is found, the gravest first, and last what somebody leaves."""
    strips = {strip.id: strip for strip in document.strips}
    reasons = {key_of(one): one.reason for one in mix.left_findings.all()}
    rows = [
        Row(one, strips[one.subject], RULES[one.rule], reasons.get(key_of(one), ""))
        for one in found.findings
        if one.subject in strips
    ]
    return sorted(rows, key=lambda row: (bool(row.reason), _ORDER[row.finding.severity]))


def key_of(one: Finding | LeftFinding) -> tuple[str, str, str]:
    """What a finding is known by: its rule and what it is about."""
    return one.rule, one.subject, one.other
