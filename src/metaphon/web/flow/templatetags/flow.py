"""Rows of the table."""

from django import template
from django.utils.safestring import SafeString

from metaphon.web.flow.table import Row
from metaphon.web.shell.fragments import drawn_once

register = template.Library()


@register.simple_tag(takes_context=True)
def table_row(context: template.Context, row: Row) -> SafeString:
    """A row of the table."""
    about = {name: context.get(name) for name in ("read_only", "can_edit", "oob")}
    return drawn_once("flow/row.html", (*about.values(), *row.key), {"row": row, **about})
