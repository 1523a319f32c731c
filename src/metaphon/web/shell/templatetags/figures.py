"""Numbers as they are read and set: tabular, with a true minus sign, their unit and their scale."""

import json
from dataclasses import replace
from typing import Any

from django import template
from django.utils.html import format_html
from django.utils.safestring import SafeString

from metaphon.core.document.fold_down import FoldDown
from metaphon.core.document.mix import Mix
from metaphon.web.shell.called import called
from metaphon.web.shell.controls import Control, Numeric, numeric_at, numeric_of

register = template.Library()


@register.filter
def signed(value: float | None, digits: int = 1) -> str:
    """A number with a true minus, or a dash where there is none."""
    if value is None:
        return "–"
    text = f"{value:.{digits}f}"
    return text.replace("-", "−") if float(text) else text.lstrip("-")


register.filter(called)


@register.simple_tag
def figure(value: float | None, unit: str = "", digits: int = 1) -> SafeString:
    """A number with its unit in quiet ink."""
    if value is None:
        return format_html('<span class="fig quiet">–</span>')
    return format_html(
        '<span class="fig">{}<span class="unit">{}</span></span>', signed(value, digits), f" {unit}"
    )


@register.filter
def clock(seconds: float) -> str:
    """Seconds as minutes and seconds, hours where there are any."""
    minutes, rest = divmod(seconds, 60.0)
    hours, minutes = divmod(int(minutes), 60)
    return f"{hours}:{minutes:02d}:{rest:04.1f}" if hours else f"{minutes}:{rest:04.1f}"


_VALUE = (
    '<span class="value{}" data-low="{}" data-high="{}" data-step="{}" '
    'data-default="{}" data-digits="{}" data-scale="{}">'
    '<span class="line"><input class="number" type="text" inputmode="decimal" '
    'autocomplete="off" name="{}" value="{}" '
    'aria-label="{}"{} {}>{}</span>'
    '<svg viewBox="0 0 100 7" preserveAspectRatio="none" aria-hidden="true"><path class="base" '
    'd="M0 3.5H100M0 1v5M25 2v3M50 2v3M75 2v3M100 1v5"/><line class="from" y1="3.5" y2="3.5"/>'
    '<line class="at" y1="0" y2="7"/></svg></span>'
)


@register.simple_tag
def number(
    strip: str,
    path: str,
    shown: float,
    label: str,
    *,
    off: bool = False,
    unit: bool = True,
    high: float | None = None,
) -> SafeString:
    """A number of a strip, set by the path that leads to it.

    Its range, step and unit come from its model.
    """
    numeric = numeric_at(path)
    if high is not None:
        numeric = replace(numeric, high=high)
    return drawn(path.rsplit("/", 1)[-1], shown, numeric, label, _set(strip, path), off, unit)


@register.simple_tag
def control_number(strip: str, control: Control, label: str, *, off: bool = False) -> SafeString:
    """A number of a processor or placement, as its control says it."""
    assert control.numeric
    return drawn(
        control.name, control.value, control.numeric, label, _set(strip, control.path), off
    )


@register.simple_tag
def fold_number(name: str, shown: float, label: str, *, off: bool = False) -> SafeString:
    """A level of the fold-down of a mix."""
    command = json.dumps({"kind": "set_fold_down", "path": name})
    sent = format_html('data-command="{}"', command)
    return drawn(name, shown, numeric_of(FoldDown.model_fields[name]), label, sent, off)


@register.simple_tag
def tempo_number(shown: float) -> SafeString:
    """The tempo of a mix."""
    sent = format_html('data-command="{}"', json.dumps({"kind": "set_tempo"}))
    return drawn("tempo_bpm", shown, numeric_of(Mix.model_fields["tempo_bpm"]), "Tempo", sent)


def _set(strip: str, path: str) -> SafeString:
    return format_html('data-set="{} {}"', strip, path)


def drawn(
    name: str,
    shown: float,
    numeric: Numeric,
    label: str,
    sent: SafeString,
    off: bool = False,
    unit: bool = True,
) -> SafeString:
    """A number that is typed, dragged along its scale, nudged by arrows and reset by double-click.

    `sent` says what becomes of it: an attribute of its input. Written here and not as a template: a
    page of Flow holds a thousand of them.
    """
    digits = next((n for n in range(3) if numeric.step >= 10.0**-n), 3)
    # parts of a sample are not hidden
    fine = (
        next((n for n in (2, 3) if round(shown, n) == shown), 4) if name.endswith("_ms") else digits
    )
    words = (
        format_html('<span class="unit">{}</span>', numeric.unit) if unit and numeric.unit else ""
    )
    return format_html(
        _VALUE,
        " off" if off else "",
        numeric.low,
        numeric.high,
        numeric.step,
        numeric.default,
        fine,
        numeric.scale,
        name,
        signed(shown, fine),
        label,
        " disabled" if off else "",
        sent,
        words,
    )


@register.inclusion_tag("shell/switch.html")
def switch(
    strip: str,
    path: str,
    on: bool,
    words: str,
    label: str,
    *,
    off: bool = False,
    kind: str = "",
    title: str = "",
) -> dict[str, Any]:
    """A button that is on or off and sets a value of a strip; `kind` is added to its classes."""
    return {
        "strip": strip,
        "path": path,
        "on": on,
        "words": words,
        "label": label,
        "off": off,
        "kind": kind,
        "title": title,
    }


@register.filter
def as_json(value: Any) -> str:
    """A value as JSON, for an attribute."""
    return json.dumps(value)


@register.filter
def add_s(seconds: float, more_s: float) -> float:
    """A later time."""
    return seconds + more_s


@register.filter
def span_of(seconds: float) -> str:
    """A length of time in the unit that suits it."""
    if seconds < 1.0:
        return f"{seconds * 1000:g} ms"
    return f"{seconds:g} s" if seconds < 60.0 else f"{seconds / 60:g} min"


@register.filter
def hertz(frequency_hz: float) -> str:
    """A frequency as it stands on an axis."""
    return f"{frequency_hz / 1000:g} k" if frequency_hz >= 1000 else f"{frequency_hz:g}"


@register.filter
def percent(part: float) -> str:
    """A part of one in per cent."""
    return f"{part:.0%}"


@register.filter
def size(number_of_bytes: int) -> str:
    """How much of a disk something takes, in words."""
    for unit, worth in (("TB", 10**12), ("GB", 10**9)):
        if number_of_bytes >= worth:
            return f"{number_of_bytes / worth:.3g} {unit}"
    return f"{number_of_bytes / 10**6:.0f} MB"


@register.filter
def kilohertz(rate_hz: int) -> str:
    """A sample rate as it is said."""
    return f"{rate_hz / 1000:g}"
