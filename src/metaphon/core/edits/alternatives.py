"""Programmes beside the mix itself, and what a listener may change."""

from collections.abc import Callable
from typing import Any, Literal

from pydantic import Field, ValidationError

from metaphon.core.document.alternatives import (
    Alternative,
    Alternatives,
    Language,
    Variation,
    Varied,
)
from metaphon.core.document.mix import Mix
from metaphon.core.document.part import Identifier, Name, Part
from metaphon.core.document.personal import alternative_of
from metaphon.core.edits.command import Command, first_free, plain_id, strip_of
from metaphon.core.edits.typed_values import extra_of, label_of, read_value
from metaphon.core.errors import InputError, Vanished

_PATH = Field(max_length=40, description="One of its fields.")
_VALUE = Field(description="A value as people type it, on or off, or a word of the choice.")
Value = bool | float | str | None


def _with(mix: Mix, **fields: Any) -> Mix:
    return mix.model_copy(update={"alternatives": mix.alternatives.model_copy(update=fields)})


def _programme(mix: Mix, identifier: str, change: Callable[[Alternative], Alternative]) -> Mix:
    alternative_of(mix, identifier)
    programmes = tuple(
        change(one) if one.id == identifier else one for one in mix.alternatives.programmes
    )
    return _with(mix, programmes=programmes)


def _set(mix: Mix, part: Part, path: str, value: Any) -> dict[str, Any]:
    """One field of a part, read as people type it; never what it is of."""
    if path not in type(part).model_fields or path in ("id", "strip", "variations"):
        raise InputError(f"There is no value {path} here.")
    if isinstance(getattr(part, path), str) and not extra_of(type(part).model_fields[path]):
        value = str(value or "").strip()
    else:
        value = read_value(part, path, value, mix.sample_rate_hz)
    update = {path: value}
    try:
        type(part).model_validate({**part.model_dump(), **update})
    except ValidationError as error:
        said = error.errors()[0]["msg"].removeprefix("Value error, ").rstrip(".")
        label = label_of(path, type(part).model_fields[path])
        raise InputError(f"{label}: {said[0].lower()}{said[1:]}.") from None
    return update


def _shown(part: Part, update: dict[str, Any]) -> str:
    """A field and its value in words."""
    ((path, value),) = update.items()
    field = type(part).model_fields[path]
    if isinstance(value, bool):
        value = "on" if value else "off"
    said = f"{value:g} {extra_of(field).get('unit', '')}" if isinstance(value, float) else value
    return f"{label_of(path, field).lower()} {str(said).replace('_', ' ')}".strip()


class AddAlternative(Command):
    """Make another programme over the mix, as it is or like one that is there."""

    kind: Literal["add_alternative"] = "add_alternative"
    name: Name = Field(max_length=80)
    language: Language = ""
    like: Identifier | None = Field(None, description="The alternative that it begins as.")

    def apply(self, mix: Mix) -> Mix:
        name = self.name.strip()
        if not name:
            raise InputError("An alternative needs a name; type one.")
        held = mix.alternatives.programmes
        if name in {mix.title, *(one.name for one in held)}:
            raise InputError(f"There is a programme called {name}; choose another name.")
        taken = {one.id for one in held}
        fresh = Alternative(
            id=first_free(plain_id(name, "alternative"), taken, "_{}"),
            name=name,
            language=self.language,
            variations=alternative_of(mix, self.like).variations if self.like else (),
        )
        return _with(mix, programmes=(*held, fresh))

    def describe(self, mix: Mix) -> str:
        return f"Made the alternative {self.name.strip()}"


class RemoveAlternative(Command):
    """Take a programme away; what strips may vary stays."""

    kind: Literal["remove_alternative"] = "remove_alternative"
    alternative: Identifier

    def apply(self, mix: Mix) -> Mix:
        gone = alternative_of(mix, self.alternative)
        return _with(
            mix, programmes=tuple(one for one in mix.alternatives.programmes if one is not gone)
        )

    def describe(self, mix: Mix) -> str:
        return f"Took away the alternative {alternative_of(mix, self.alternative).name}"


class SetAlternative(Command):
    """Name an alternative, or say which language it is in; without one, of the mix itself."""

    kind: Literal["set_alternative"] = "set_alternative"
    alternative: Identifier | None = None
    path: Literal["name", "language"]
    value: Name = Field(max_length=80)

    def apply(self, mix: Mix) -> Mix:
        if self.alternative is not None:
            change = _set(mix, alternative_of(mix, self.alternative), self.path, self.value)
            return _programme(mix, self.alternative, lambda one: one.model_copy(update=change))
        if self.path == "name":
            raise InputError("The mix itself is named by its title.")
        return _with(mix, **_set(mix, mix.alternatives, "language", self.value))

    def describe(self, mix: Mix) -> str:
        held: Alternative | Alternatives = mix.alternatives
        name = mix.title
        if self.alternative is not None:
            held = alternative_of(mix, self.alternative)
            name = held.name
        return f"{name}: {_shown(held, _set(mix, held, self.path, self.value))}"


class SetVariation(Command):
    """Set whether a strip is heard in an alternative, and what it is turned up by there."""

    kind: Literal["set_variation"] = "set_variation"
    alternative: Identifier
    strip: Identifier
    path: str = _PATH
    value: Value = _VALUE

    def apply(self, mix: Mix) -> Mix:
        strip_of(mix, self.strip)

        def change(one: Alternative) -> Alternative:
            own = one.of(self.strip)
            new = own.model_copy(update=_set(mix, own, self.path, self.value))
            rest = tuple(each for each in one.variations if each.strip != self.strip)
            kept = () if new == Variation(strip=self.strip) else (new,)
            return one.model_copy(update={"variations": (*rest, *kept)})

        return _programme(_kept_apart(mix, self.strip), self.alternative, change)

    def describe(self, mix: Mix) -> str:
        one = alternative_of(mix, self.alternative)
        own = one.of(self.strip)
        name = strip_of(mix, self.strip).name
        return f"{one.name}, {name}: {_shown(own, _set(mix, own, self.path, self.value))}"


class AddVaried(Command):
    """Keep a strip apart, so that programmes may differ in it and listeners may change it."""

    kind: Literal["add_varied"] = "add_varied"
    strip: Identifier

    def apply(self, mix: Mix) -> Mix:
        strip_of(mix, self.strip)
        return _kept_apart(mix, self.strip)

    def describe(self, mix: Mix) -> str:
        return f"{strip_of(mix, self.strip).name} may differ"


class RemoveVaried(Command):
    """Let a strip be the same in every programme and for every listener."""

    kind: Literal["remove_varied"] = "remove_varied"
    strip: Identifier

    def apply(self, mix: Mix) -> Mix:
        held = mix.alternatives
        programmes = tuple(
            one.model_copy(
                update={"variations": tuple(v for v in one.variations if v.strip != self.strip)}
            )
            for one in held.programmes
        )
        varied = tuple(one for one in held.varied if one.strip != self.strip)
        return _with(mix, varied=varied, programmes=programmes)

    def describe(self, mix: Mix) -> str:
        return f"{strip_of(mix, self.strip).name} is the same in every programme"


class SetVaried(Command):
    """Set what a listener may change of a strip."""

    kind: Literal["set_varied"] = "set_varied"
    strip: Identifier
    path: str = _PATH
    value: Value = _VALUE

    def apply(self, mix: Mix) -> Mix:
        update = _set(mix, self._held(mix), self.path, self.value)
        varied = tuple(
            one.model_copy(update=update) if one.strip == self.strip else one
            for one in mix.alternatives.varied
        )
        return _with(mix, varied=varied)

    def describe(self, mix: Mix) -> str:
        held = self._held(mix)
        shown = _shown(held, _set(mix, held, self.path, self.value))
        return f"{strip_of(mix, self.strip).name}, listeners: {shown}"

    def _held(self, mix: Mix) -> Varied:
        for one in mix.alternatives.varied:
            if one.strip == self.strip:
                return one
        raise Vanished("This track is the same in every programme by now; look again.")


def _kept_apart(mix: Mix, strip: str) -> Mix:
    held = mix.alternatives.varied
    if any(one.strip == strip for one in held):
        return mix
    return _with(mix, varied=(*held, Varied(strip=strip)))
