"""A mix as it is kept: files by their names in storage, large arrays packed."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any, Protocol, runtime_checkable

from pydantic import BaseModel, BeforeValidator, PlainSerializer, SerializationInfo, ValidationInfo


@runtime_checkable
class Packable(Protocol):
    """A large array that is kept packed."""

    def packed(self) -> Any:
        """Give it as plain data."""


@dataclass(frozen=True)
class KeptForm:
    """How whoever keeps a mix names files. Given as context to pydantic, both ways.

    Without it, values are those of the mix document: files as they are, lanes as lists of points.
    """

    name_of: Callable[[Path], str]
    path_of: Callable[[str], Path]

    def dump(self, value: Any) -> Any:
        """A part of a mix, or a tuple of parts, as plain data."""
        match value:
            case tuple():
                return [self.dump(one) for one in value]
            case BaseModel():
                return value.model_dump(mode="json", context=self)
            case Packable():
                return value.packed()
            case Path():
                return self.name_of(value)
        return value


AS_THEY_ARE = KeptForm(str, Path)


def _named(file: Path, info: SerializationInfo) -> str:
    return info.context.name_of(file) if isinstance(info.context, KeptForm) else str(file)


def _found(file: Any, info: ValidationInfo) -> Any:
    by_name = isinstance(info.context, KeptForm) and isinstance(file, str)
    return info.context.path_of(file) if by_name else file  # type: ignore[union-attr]


NamedFile = Annotated[
    Path, PlainSerializer(_named, return_type=str, when_used="json"), BeforeValidator(_found)
]
