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
    return {cls.model_fields["kind"].default: cls for cls in Processor.__subclasses__()}


KINDS: dict[str, type[Processor]] = dict(sorted(_find().items()))

AnyProcessor: Any = Annotated[reduce(or_, KINDS.values()), Field(discriminator="kind")]
