"""Controls of the monitor, drawn from its settings."""

from django import template
from django.utils.html import format_html
from django.utils.safestring import SafeString

from metaphon.core.document.part import Part
from metaphon.core.listen.monitor import Binaural, Correction, Loudspeaker, Room, VirtualPair
from metaphon.web.shell.controls import numeric_of
from metaphon.web.shell.templatetags.figures import drawn

register = template.Library()

_MODELS: dict[str, type[Part]] = {
    "binaural": Binaural,
    "binaural.room": Room,
    "virtual_pair": VirtualPair,
    "correction": Correction,
    "loudspeaker": Loudspeaker,
}


@register.simple_tag
def setting(path: str, label: str) -> SafeString:
    """One number of the monitor as a labelled control.

    Its range, unit and help come from the settings themselves.
    """
    model, name = path.rsplit(".", 1)
    return format_html(
        '<div class="control" title="{}"><span>{}</span>{}</div>',
        _MODELS[model].model_fields[name].description or "",
        label,
        bare(path, f"monitor.{path}", label),
    )


@register.simple_tag
def bare(path: str, bind: str, label: str) -> SafeString:
    """The same without its row, kept by the page under a name of its own."""
    model, name = path.rsplit(".", 1)
    numeric = numeric_of(_MODELS[model].model_fields[name])
    return drawn(name, numeric.default, numeric, label, format_html('data-bind="{}"', bind))


@register.filter
def pairs(text: str) -> list[tuple[str, str]]:
    """`key:Words` apart by spaces, an underscore standing for a space in the words."""
    rows = (item.split(":") for item in text.split())
    return [(key, words.replace("_", " ")) for key, words in rows]


@register.filter
def words(text: str) -> list[str]:
    return text.split()


@register.filter
def minus(text: str) -> str:
    return text.replace("-", "−")
