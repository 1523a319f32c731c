"""What a rule says when it has noticed something."""

from dataclasses import dataclass
from typing import Literal

Severity = Literal["problem", "warning", "note"]


@dataclass(frozen=True)
class Finding:
    """`subject` is the id of the track or bus; `message` one sentence with what to do."""

    rule: str
    severity: Severity
    subject: str
    message: str
