"""Tables for other programs (CSV)."""

import csv
import io
from collections.abc import Iterable, Sequence
from typing import Any


def as_csv(head: Sequence[str], rows: Iterable[Sequence[Any]]) -> str:
    """A table as CSV: numbers to the microsecond, and no text that is taken for a formula."""
    text = io.StringIO()
    table = csv.writer(text)
    table.writerow(head)
    table.writerows([[_plain(value) for value in row] for row in rows])
    return text.getvalue()


def _plain(value: Any) -> Any:
    if isinstance(value, float):
        return f"{value:.6f}".rstrip("0").rstrip(".")
    return f"'{value}" if isinstance(value, str) and value[:1] in "=+-@\t\r" and value else value
