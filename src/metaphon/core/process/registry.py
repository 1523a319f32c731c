"""Finds every processor in this package."""

from functools import reduce
from importlib import import_module
from operator import or_
from pkgutil import iter_modules
from typing import Annotated, Any

from pydantic import Field

from metaphon.core import process
from metaphon.core.process.processor import Processor


def _find() -> dict[str, type[Processor]]:
    for module in iter_modules(process.__path__):
        if module.name != "registry":
            import_module(f"{process.__name__}.{module.name}")
    return {cls.model_fields["kind"].default: cls for cls in _below(Processor)}  # type: ignore[type-abstract]


def _below(base: type[Processor]) -> list[type[Processor]]:
    """Those of a kind; what several share has none."""
    found = []
    for cls in base.__subclasses__():
        found += [cls] if "kind" in cls.model_fields else _below(cls)
    return found


KINDS: dict[str, type[Processor]] = dict(sorted(_find().items()))

AnyProcessor: Any = Annotated[reduce(or_, KINDS.values()), Field(discriminator="kind")]
