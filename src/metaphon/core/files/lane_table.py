"""Automation as a table: CSV with one breakpoint a line."""

import csv
import io
from collections.abc import Iterable

from metaphon.core.document.breakpoints import CURVES, Breakpoint, Breakpoints
from metaphon.core.document.mix import Automation
from metaphon.core.errors import InputError
from metaphon.core.foreign import reads_foreign

_HEAD = ("parameter", "time_s", "value", "curve")
_MOST_LINES = 200000


def written(lanes: Iterable[Automation]) -> str:
    """The lanes of one strip as CSV.

    A parameter is what follows the strip's id in the lane's target.
    """
    text = io.StringIO()
    table = csv.writer(text, lineterminator="\n")
    table.writerow(_HEAD)
    for lane in lanes:
        name = lane.target.split("/", 1)[1]
        table.writerows((name, f"{p.t_s:g}", f"{p.value:.10g}", p.curve) for p in lane.points)
    return text.getvalue()


@reads_foreign
def read(text: str, strip_id: str) -> list[Automation]:
    """The lanes in a CSV table, for a strip.

    Raises InputError naming the line that cannot be read.
    """
    try:
        lines = list(csv.reader(io.StringIO(text.lstrip("\ufeff"))))
    except csv.Error as error:
        raise InputError(f"This is no table that can be read ({error}).") from None
    if not lines or tuple(cell.strip() for cell in lines[0])[:3] != _HEAD[:3]:
        raise InputError(f"The table's first line must be {','.join(_HEAD)}; write it there.")
    if len(lines) > _MOST_LINES:
        raise InputError(
            f"The table has {len(lines)} lines; at most {_MOST_LINES} are read. Thin it first."
        )
    found: dict[str, list[Breakpoint]] = {}
    for number, cells in enumerate(lines[1:], start=2):
        if not any(cell.strip() for cell in cells):
            continue
        try:
            name, time_s, value, *curve = (cell.strip() for cell in cells)
            kind = CURVES[CURVES.index((curve or ["linear"])[0] or "linear")]
            point = Breakpoints.of([Breakpoint(float(time_s), float(value), kind)])[0]
        except ValueError:
            raise InputError(
                f"Line {number} of the table cannot be read; write parameter, seconds, "
                "value, curve."
            ) from None
        found.setdefault(name, []).append(point)
    if not found:
        raise InputError("The table holds no breakpoints; write one a line.")
    return [
        Automation(target=f"{strip_id}/{name}", points=Breakpoints.of(points))
        for name, points in found.items()
    ]
