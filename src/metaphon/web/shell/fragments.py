"""Parts of pages: shown only within their page, and not drawn anew where they say the same."""

import re
from collections import OrderedDict
from collections.abc import Callable, Hashable
from functools import wraps
from typing import Any
from urllib.parse import quote

from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect
from django.template.loader import render_to_string
from django.urls import reverse
from django.utils.safestring import SafeString, mark_safe

View = Callable[..., HttpResponse]


def fragment_of(page: str) -> Callable[[View], View]:
    """Declare a view that gives a part of a page; opened as an address, it leads to the page."""

    def declared(view: View) -> View:
        @wraps(view)
        def shown(request: HttpRequest, mix_id: int, *args: Any, **rest: Any) -> HttpResponse:
            if request.method == "GET" and not request.headers.get("HX-Request"):
                strip = f"?strip={quote(str(rest['strip_id']))}" if "strip_id" in rest else ""
                return redirect(reverse(page, args=[mix_id]) + strip)
            return view(request, mix_id, *args, **rest)

        return shown

    return declared


_KEPT = 8192
_INDENTS = re.compile(r"\n\s+")
_drawn: OrderedDict[Hashable, SafeString] = OrderedDict()


def drawn_once(template: str, key: tuple[Any, ...], context: dict[str, Any]) -> SafeString:
    """A template drawn in a context; `key` is all that the drawing depends on.

    A large mix has hundreds of rows.
    """
    found = _drawn.get((template, key))
    if found is None:
        text = _INDENTS.sub("\n", render_to_string(template, context))  # most of a deep template
        found = _drawn[template, key] = mark_safe(text)
        if len(_drawn) > _KEPT:
            _drawn.popitem(last=False)
    else:
        _drawn.move_to_end((template, key))
    return found
