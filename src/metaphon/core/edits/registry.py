"""Every command there is: found in this package, read from data, told as a schema."""

import json
from collections.abc import Callable, Iterable
from functools import reduce
from importlib import import_module
from inspect import isabstract
from operator import or_
from pathlib import Path
from pkgutil import iter_modules
from typing import Annotated, Any, Literal, get_args, get_origin

from pydantic import BaseModel, Field, TypeAdapter, ValidationError, create_model

from metaphon.core import edits
from metaphon.core.document.mix import Mix
from metaphon.core.document.part import Name
from metaphon.core.edits.command import Command, apply
from metaphon.core.edits.typed_values import label_of
from metaphon.core.errors import InputError


def _all(base: type[Command]) -> list[type[Command]]:
    found = [] if isabstract(base) or "kind" not in base.model_fields else [base]
    return found + [one for cls in base.__subclasses__() for one in _all(cls)]


def _find() -> dict[str, type[Command]]:
    for module in iter_modules(edits.__path__):
        if module.name != "registry":
            import_module(f"{edits.__name__}.{module.name}")
    found = {cls.model_fields["kind"].default: cls for cls in _all(Command)}  # type: ignore[type-abstract]
    return dict(sorted(found.items()))  # whatever was imported first


_single = _find()
AnySingle: Any = Annotated[reduce(or_, _single.values()), Field(discriminator="kind")]


MOST_COMMANDS = 1000


class Batch(Command):
    """Several commands as one step; all are carried out, or none."""

    kind: Literal["batch"] = "batch"
    commands: tuple[AnySingle, ...] = Field(min_length=1, max_length=MOST_COMMANDS)
    words: Name = Field(
        "", max_length=255, description="What the history says; the words of the first where empty."
    )

    def apply(self, mix: Mix) -> Mix:
        for command in self.commands:
            mix = command.apply(mix)
        return mix

    def describe(self, mix: Mix) -> str:
        more = len(self.commands) - 1
        return self.words or self.commands[0].describe(mix) + (f", and {more} more" if more else "")


_every: dict[str, type[Command]] = {**_single, "batch": Batch}
COMMANDS: dict[str, type[Command]] = dict(sorted(_every.items()))
AnyCommand: Any = Annotated[reduce(or_, COMMANDS.values()), Field(discriminator="kind")]


def read(data: Any) -> Command:
    """A command from decoded JSON. Raises InputError in one sentence for what is none."""
    kind = data.get("kind") if isinstance(data, dict) else None
    if not isinstance(kind, str) or kind not in COMMANDS:
        raise InputError(f"There is no command {str(kind)[:40]!r}; see schema --commands.")
    try:
        return COMMANDS[kind].model_validate(data)
    except ValidationError as error:
        raise InputError(_sentence(COMMANDS[kind], error)) from None


def from_text(text: str) -> Command:
    """A command from JSON. Raises InputError in one sentence for what is none."""
    try:
        data = json.loads(text)
    except (ValueError, RecursionError):
        raise InputError("This command is no JSON; give an object with its kind.") from None
    return read(data)


def _sentence(command: type[Command], error: ValidationError) -> str:
    first = error.errors()[0]
    name = str(first["loc"][0]) if first["loc"] else ""
    field = command.model_fields.get(name)
    label = label_of(name, field) if field else "The command"
    said = first["msg"].removeprefix("Value error, ")
    if field is not None and len(first["loc"]) == 1:
        bounds = {
            type(m).__name__.lower(): getattr(m, type(m).__name__.lower(), None)
            for m in field.metadata
        }
        if {"ge", "le"} <= set(bounds) and first["type"] in (
            "greater_than_equal",
            "less_than_equal",
        ):
            return (
                f"{label} may be {bounds['ge']:g} to {bounds['le']:g}; "
                f"{str(first['input'])[:30]} is outside."
            )
        if first["type"].startswith("float"):
            return f"{label} is a number, not {str(first['input'])[:30]!r}."
        if get_origin(field.annotation) is Literal:
            return f"{label}: choose one of {', '.join(map(str, get_args(field.annotation)))}."
        if first["type"] == "too_short":
            return f"{label}: nothing is chosen; choose some first."
    if first["type"] == "missing":
        return f"{label} is missing; give it."
    if first["type"] == "extra_forbidden":
        return f"{name} is not known here; take it out."
    return f"{label}: {said[0].lower()}{said[1:].rstrip('.')}."


def read_all(data: Any) -> list[Command]:
    """Commands from a list, or from an object with `commands`.

    Raises InputError naming the one that is wrong.
    """
    rows = data.get("commands") if isinstance(data, dict) and "kind" not in data else data
    rows = [rows] if isinstance(rows, dict) else rows
    if not isinstance(rows, list) or not rows:
        raise InputError("Give a list of commands, one at least.")
    found = []
    for number, row in enumerate(rows, start=1):
        try:
            found.append(read(row))
        except InputError as error:
            raise InputError(f"Command {number}: {error}") from None
    return found


def apply_all(mix: Mix, commands: Iterable[Command]) -> tuple[Mix, list[str]]:
    """Carry out commands one after the other.

    Gives the mix after them, and what the history says of each. Raises InputError naming the one
    that cannot be carried out.
    """
    said = []
    for number, command in enumerate(commands, start=1):
        try:
            words = command.describe(mix)
            mix = apply(mix, command)
        except InputError as error:
            raise InputError(f"Command {number}: {error}") from None
        said.append(words)
    return mix, said


def with_files(command: Command, change: Callable[[Path], Path]) -> Command:
    """The same command with every file that it names renamed by `change`."""
    renamed: Command = _renamed(command, change)
    return renamed


def _renamed(value: Any, change: Callable[[Path], Path]) -> Any:
    if isinstance(value, Path):
        return change(value)
    if isinstance(value, tuple):
        return tuple(_renamed(one, change) for one in value)
    if not isinstance(value, BaseModel):
        return value
    held = {name: getattr(value, name) for name in type(value).model_fields}
    new = {name: _renamed(one, change) for name, one in held.items()}
    return value.model_copy(update={n: one for n, one in new.items() if one is not held[n]})


def schema() -> dict[str, Any]:
    """The JSON schema of a list of commands."""
    listed = create_model("Commands", commands=(list[AnyCommand], ...))
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        **TypeAdapter(listed).json_schema(),
    }
