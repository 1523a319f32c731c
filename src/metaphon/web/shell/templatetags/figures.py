"""Numbers as they are read: tabular, with a true minus sign and their unit."""

from django import template
from django.utils.html import format_html
from django.utils.safestring import SafeString

register = template.Library()


@register.filter
def signed(value: float | None, digits: int = 1) -> str:
    """A number with a true minus, or a dash where there is none."""
    if value is None:
        return "–"
    text = f"{value:.{digits}f}"
    return text.replace("-", "−") if float(text) else text.lstrip("-")


@register.simple_tag
def figure(value: float | None, unit: str = "", digits: int = 1) -> SafeString:
    """A number with its unit in quiet ink."""
    if value is None:
        return format_html('<span class="fig quiet">–</span>')
    return format_html('<span class="fig">{}<span class="unit">{}</span></span>', signed(value, digits), f" {unit}")


@register.filter
def clock(seconds: float) -> str:
    """Seconds as minutes and seconds, hours where there are any."""
    minutes, rest = divmod(seconds, 60.0)
    hours, minutes = divmod(int(minutes), 60)
    return f"{hours}:{minutes:02d}:{rest:04.1f}" if hours else f"{minutes}:{rest:04.1f}"


_VALUE = (
    '<span class="value{}" data-low="{}" data-high="{}" data-step="{}" data-default="{}" data-digits="{}" data-scale="{}">'
    '<span class="line"><input class="number" type="text" inputmode="decimal" autocomplete="off" name="{}" value="{}" '
    'aria-label="{}"{} {}>{}</span>'
    '<svg viewBox="0 0 100 7" preserveAspectRatio="none" aria-hidden="true"><path class="base" '
    'd="M0 3.5H100M0 1v5M25 2v3M50 2v3M75 2v3M100 1v5"/><line class="from" y1="3.5" y2="3.5"/>'
    '<line class="at" y1="0" y2="7"/></svg></span>'
)


@register.simple_tag
def value(  # one control for every number on every screen
    name: str,
    number: float,
    low: float,
    high: float,
    step: float,
    default: float,
    unit: str,
    url: str,
    label: str,
    off: bool = False,
    scale: str = "linear",
    bind: str = "",
) -> SafeString:
    """A number that is typed, dragged along its scale, nudged by arrows and reset by double-click.

    It is posted to `url`, or with `bind` kept by the page under that name. Written here and not as a template: a page of Flow holds a thousand of them.
    """
    digits = 0 if step >= 1 else 1 if step >= 0.1 else 2
    fine = 2 if name.endswith("_ms") else digits
    shown = format_html('<span class="unit">{}</span>', unit) if unit else ""
    sent = format_html('data-bind="{}"', bind) if bind else format_html('hx-post="{}" hx-trigger="commit"', url)
    return format_html(
        _VALUE, " off" if off else "", low, high, step, default, fine, scale, name, signed(number, fine), label,
        " disabled" if off else "", sent, shown,
    )  # fmt: skip


@register.filter
def percent(part: float) -> str:
    """A part of one in per cent."""
    return f"{part:.0%}"


@register.filter
def kilohertz(rate_hz: int) -> str:
    """A sample rate as it is said."""
    return f"{rate_hz / 1000:g}"
