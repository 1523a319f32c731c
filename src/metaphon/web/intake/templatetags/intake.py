"""Numbers of a clip that no single field holds."""

import json
from dataclasses import replace

from django import template
from django.utils.html import format_html
from django.utils.safestring import SafeString

from metaphon.web.intake.timeline import ClipShown
from metaphon.web.shell.controls import numeric_at
from metaphon.web.shell.templatetags.figures import drawn

register = template.Library()


@register.simple_tag
def clip_end(strip: str, one: ClipShown, label: str, *, off: bool, high: float) -> SafeString:
    """When a clip ends; setting it trims the clip."""
    trim = {
        "kind": "trim_clip",
        "strip": strip,
        "place": one.place,
        "begins_s": one.clip.start_s,
    }
    sent = format_html('data-command="{}" data-field="ends_s"', json.dumps(trim))
    whole_s = one.clip.start_s - one.clip.in_s + one.recorded_s
    numeric = replace(numeric_at("clips/0/start_s"), high=high, default=whole_s)
    return drawn("ends_s", one.ends_s, numeric, label, sent, off)
