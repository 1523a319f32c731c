"""One control of a processor, whatever its sort."""

from collections import OrderedDict
from typing import Any

from django import template
from django.template.loader import render_to_string
from django.utils.safestring import SafeString

from metaphon.web.flow.controls import Control
from metaphon.web.flow.table import Part, Row

register = template.Library()
_KEPT_ROWS = 4096
_drawn: OrderedDict[tuple[Any, ...], SafeString] = OrderedDict()


@register.simple_tag(takes_context=True)
def drawn_row(context: template.Context, row: Row) -> SafeString:
    """A row of the table. Those that say the same as before are not drawn anew: a large mix has hundreds."""
    about = {name: context.get(name) for name in ("base", "read_only", "can_edit", "oob")}
    key = (*about.values(), *row.shown)
    found = _drawn.get(key)
    if found is None:
        found = _drawn[key] = render_to_string("flow/row.html", {"row": row, **about})
        if len(_drawn) > _KEPT_ROWS:
            _drawn.popitem(last=False)
    else:
        _drawn.move_to_end(key)
    return found


@register.inclusion_tag("flow/control.html")
def control(control: Control, each: str, part: Part, row: Row, read_only: bool) -> dict[str, Any]:
    """Draw a control; `each` is the address of its processor."""
    bands = []
    for number, found in enumerate(control.value if control.sort == "bands" else (), 1):
        values = {one.name: one for one in found}
        used = _used(values["shape"].value)
        bands.append({
            "number": number,
            "said": f"Band {number}, ",
            "on": values["on"].value,
            "url": f"{each}/band/{number - 1}",
            "controls": [one for one in found if one.name in ("shape", "on", *used)],
        })  # fmt: skip
    return {
        "control": control, "each": each, "url": f"{each}/set/{control.name}", "part": part, "bands": bands,
        "read_only": read_only, "numbers": range(1, min(row.channels, 24) + 1),
    }  # fmt: skip


def _used(shape: str) -> tuple[str, ...]:
    from metaphon.core.process.eq import Band

    return Band(shape=shape).used  # type: ignore[arg-type]
