"""Rows of the list of sources."""

from django import template
from django.utils.safestring import SafeString

from metaphon.web.field.views import Shown
from metaphon.web.shell.fragments import drawn_once

register = template.Library()


@register.simple_tag(takes_context=True)
def source_row(context: template.Context, row: Shown) -> SafeString:
    """A row of the list."""
    read_only = bool(context.get("read_only"))
    return drawn_once("field/row.html", (read_only, *row.key), {"row": row, "read_only": read_only})
