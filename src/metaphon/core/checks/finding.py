"""What a rule says when it has noticed something."""

from dataclasses import dataclass
from typing import Literal

Severity = Literal["problem", "warning", "note"]


@dataclass(frozen=True)
class Finding:
    """`subject` is the id of the track or bus; `message` one sentence with what to do.

    `other` is the id of a second strip that has part in it, `amount` a figure that the mend needs
    (dB, ms or a width).
    """

    rule: str
    severity: Severity
    subject: str
    message: str
    other: str = ""
    amount: float = 0.0
