"""Numbers of what is asked for, with range, step and unit from the core's own model."""

from django import template
from django.utils.safestring import SafeString

from metaphon.core.document.handover import Handover
from metaphon.web.shell.controls import numeric_of
from metaphon.web.shell.templatetags.figures import drawn

register = template.Library()


@register.simple_tag
def asked_number(asked: Handover, name: str, label: str) -> SafeString:
    """A number of a handover, sent with its form."""
    shown = getattr(asked, name)
    return drawn(name, shown, numeric_of(Handover.model_fields[name]), label, SafeString(""))
