"""Every address of the application, found by itself, so that a new one is tried like the others."""

import inspect
import re
from dataclasses import dataclass
from functools import cache
from pathlib import Path

from django.urls import URLPattern, URLResolver, converters, get_resolver

_KINDS = {
    converters.IntConverter: "int",
    converters.UUIDConverter: "uuid",
    converters.StringConverter: "str",
    converters.SlugConverter: "slug",
    converters.PathConverter: "path",
}


@dataclass(frozen=True)
class Route:
    """An address: its pattern, what its parts are, and the fields that its view reads."""

    name: str  # as `reverse` calls it
    pattern: str
    parts: dict[str, str]
    fields: list[str]

    def address(self, **parts: str) -> str:
        """The address with a value for each of its parts, by the part's name or its kind."""
        address = self.pattern
        for name, kind in self.parts.items():
            value = parts.get(name) or parts.get(kind) or "1"
            address = address.replace(f"<{kind}:{name}>", value)
        # of a choice of words the first
        return "/" + re.sub(r"\^\(\?P<\w+>(\w+)[^)]*\)(.*)\$", r"\1\2", address)


@cache
def routes() -> list[Route]:
    """Every address of the application."""
    found = []

    def walk(resolver: URLResolver, before: str, parts: dict[str, str], space: str) -> None:
        for one in resolver.url_patterns:
            route = before + str(one.pattern)
            kinds = {name: _KINDS[type(c)] for name, c in one.pattern.converters.items()}
            here = parts | kinds
            if isinstance(one, URLResolver):
                walk(one, route, here, f"{one.namespace}:" if one.namespace else "")
            elif isinstance(one, URLPattern):
                source = Path(inspect.getfile(inspect.unwrap(one.callback))).read_text()
                fields = sorted({*re.findall(r'(?:POST|GET)(?:\.get\(|\[)"(\w+)"', source)})
                found.append(Route(f"{space}{one.name}", route, here, fields))

    walk(get_resolver(), "", {}, "")
    return found
