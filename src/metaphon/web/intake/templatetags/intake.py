"""Numbers of a clip that no single field holds."""

import json
from dataclasses import replace

from django import template
from django.utils.html import format_html
from django.utils.safestring import SafeString

from metaphon.core.document.marker import Marker
from metaphon.web.intake.timeline import ClipShown
from metaphon.web.shell.controls import numeric_at, numeric_of
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


@register.simple_tag
def marker_time(marker: Marker, *, off: bool, high: float) -> SafeString:
    """Where a marker is."""
    command = {"kind": "set_marker", "marker": marker.id, "path": "at_s"}
    sent = format_html('data-command="{}"', json.dumps(command))
    numeric = replace(numeric_of(Marker.model_fields["at_s"]), high=high)
    return drawn("at_s", marker.at_s, numeric, "Time of the marker", sent, off)
