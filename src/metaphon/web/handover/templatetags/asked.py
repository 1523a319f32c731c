"""Numbers of what is asked for, with range, step and unit from the core's own model."""

import json
from dataclasses import replace

from django import template
from django.utils.html import format_html
from django.utils.safestring import SafeString

from metaphon.core.document.alternatives import Alternative, Variation, Varied
from metaphon.core.document.handover import Handover
from metaphon.core.document.mix import Strip
from metaphon.core.document.personal import Change
from metaphon.web.handover.alternatives import Row
from metaphon.web.shell.controls import numeric_of
from metaphon.web.shell.templatetags.figures import drawn

register = template.Library()


@register.simple_tag
def asked_number(asked: Handover, name: str, label: str) -> SafeString:
    """A number of a handover, sent with its form."""
    shown = getattr(asked, name)
    return drawn(name, shown, numeric_of(Handover.model_fields[name]), label, SafeString(""))


@register.simple_tag
def varied_number(row: Row, name: str, *, off: bool = False) -> SafeString:
    """How far a listener may change something of a strip."""
    command = {"kind": "set_varied", "strip": row.strip.id, "path": name}
    label = f"{row.strip.name}, {_LIMITS[name]}"
    off = off or (name.endswith("_deg") and not row.may_be_placed)
    numeric = numeric_of(Varied.model_fields[name])
    return drawn(name, getattr(row.varied, name), numeric, label, _sent(command), off)


@register.simple_tag
def variation_number(
    programme: Alternative, strip: Strip, held: Variation, *, off: bool = False
) -> SafeString:
    """What a strip is turned up by in a programme."""
    command = {
        "kind": "set_variation",
        "alternative": programme.id,
        "strip": strip.id,
        "path": "gain_db",
    }
    numeric = numeric_of(Variation.model_fields["gain_db"])
    label = f"{programme.name}, {strip.name}, gain"
    return drawn("gain_db", held.gain_db, numeric, label, _sent(command), off)


@register.simple_tag
def personal_number(row: Row, name: str) -> SafeString:
    """What a listener has changed of a strip, within what is allowed."""
    numeric = numeric_of(Change.model_fields[name])
    most = getattr(row.varied, "most_db" if name == "gain_db" else name)
    low = row.varied.least_db if name == "gain_db" else -most
    unit, step = ("dB", 0.5) if name == "gain_db" else ("°", 1.0)
    within = replace(numeric, low=low, high=most, unit=unit, step=step)
    sent = format_html('data-personal="{} {}"', row.strip.id, name)
    return drawn(name, 0.0, within, f"{row.strip.name}, {_PERSONAL[name]}", sent)


def _sent(command: dict[str, str]) -> SafeString:
    return format_html('data-command="{}"', json.dumps(command))


_LIMITS = {
    "least_db": "turned down by at most",
    "most_db": "turned up by at most",
    "azimuth_deg": "moved aside by at most",
    "elevation_deg": "moved up or down by at most",
}
_PERSONAL = {"gain_db": "level", "azimuth_deg": "aside", "elevation_deg": "up or down"}
