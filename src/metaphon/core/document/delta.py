"""What of a mix is new, so that a large one need not be sent whole to whom knows the one before."""

from dataclasses import dataclass
from typing import Any

from metaphon.core.document.mix import Mix


@dataclass(frozen=True)
class Delta:
    """The fields of a mix that differ from those of an earlier one.

    Of a field of many parts, those that stayed are told by their place in the earlier mix.
    """

    fields: dict[str, Any]
    parts: dict[str, tuple[Any, ...]]

    @classmethod
    def between(cls, before: Mix, after: Mix) -> "Delta":
        """What turns the one into the other; parts that are the same object are not repeated."""
        fields, parts = {}, {}
        for name in Mix.model_fields:
            old, new = getattr(before, name), getattr(after, name)
            if new is old:
                continue
            if isinstance(new, tuple):
                places = {id(part): place for place, part in enumerate(old)}
                parts[name] = tuple(_Same(places[id(p)]) if id(p) in places else p for p in new)
            else:
                fields[name] = new
        return cls(fields, parts)

    def applied_to(self, before: Mix) -> Mix:
        """The later mix; its parts that stayed are those of the earlier one."""
        parts = {
            name: tuple(
                getattr(before, name)[part.place] if isinstance(part, _Same) else part
                for part in new
            )
            for name, new in self.parts.items()
        }
        return before.model_copy(update={**self.fields, **parts})


@dataclass(frozen=True)
class _Same:
    place: int
