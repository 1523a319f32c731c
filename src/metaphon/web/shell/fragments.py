"""Parts of pages that say the same as before are not drawn anew.

A large mix has hundreds of rows.
"""

from collections import OrderedDict
from collections.abc import Hashable
from typing import Any

from django.template.loader import render_to_string
from django.utils.safestring import SafeString

_KEPT = 8192
_drawn: OrderedDict[Hashable, SafeString] = OrderedDict()


def drawn_once(template: str, key: tuple[Any, ...], context: dict[str, Any]) -> SafeString:
    """A template drawn in a context; `key` is all that the drawing depends on."""
    found = _drawn.get((template, key))
    if found is None:
        found = _drawn[template, key] = render_to_string(template, context)
        if len(_drawn) > _KEPT:
            _drawn.popitem(last=False)
    else:
        _drawn.move_to_end((template, key))
    return found
