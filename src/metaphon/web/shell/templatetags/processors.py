"""What the controls of a processor are drawn from: the bands of an equaliser, channels."""

from typing import Any, get_args

from django import template

from metaphon.core.process.eq import Band, Shape
from metaphon.web.shell.controls import Control

register = template.Library()


@register.filter
def bands(control: Control) -> list[dict[str, Any]]:
    """The bands of an equaliser, each with the controls that count for its shape."""
    found = []
    for number, controls in enumerate(control.value, 1):
        values = {one.name: one for one in controls}
        used = Band.model_construct(shape=values["shape"].value).used
        found.append(
            {
                "number": number,
                "place": number - 1,
                "said": f"Band {number}, ",
                "on": values["on"],
                "choices": [
                    one
                    for one in controls
                    if one.name == "shape" or (one.sort == "choice" and one.name in used)
                ],
                "numbers": [one for one in controls if one.sort == "number" and one.name in used],
            }
        )
    return found


@register.filter
def channel_numbers(count: int) -> range:
    """The numbers of channels that can be turned one by one."""
    return range(1, min(count, 24) + 1)


@register.simple_tag
def band_shapes() -> list[tuple[str, str]]:
    """The shapes that a band may have, in words."""
    return [(word, word.replace("_", " ").capitalize()) for word in get_args(Shape)]
