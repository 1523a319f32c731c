"""The difference between two mixes: what changed where, to be made forwards and backwards.

Found from the frozen trees: what a command did not touch is the same object, and is not looked at.
"""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import asdict, dataclass
from functools import cache
from typing import Any, Literal

from pydantic import BaseModel, TypeAdapter, ValidationError

from metaphon.core.document.mix import PROGRAMME, Mix, hangs_together
from metaphon.core.document.value_paths import lane_path
from metaphon.core.errors import InputError
from metaphon.core.kept_form import AS_THEY_ARE, KeptForm

# lists whose parts are known by a name, and the field that has it; others go by place
_NAMES = {
    "tracks": "id",
    "buses": "id",
    "groups": "id",
    "markers": "id",
    "programmes": "id",
    "varied": "strip",
    "variations": "strip",
    "sends": "bus",
    "automation": "target",
    "targets": "",  # a name itself
}
_GONE = "what it changed is no longer in the mix; make the change anew."
_OTHERWISE = "somebody has made its like, or what it needs is gone; make it anew."

Way = tuple[str | int, ...]
Conflict = Literal["none", "value", "structure"]


@dataclass(frozen=True)
class Change:
    """One thing that is otherwise in one mix than in the other.

    Parameters
    ----------
    at : tuple of str and int
        The way to it: fields, names of parts, places in lists.
    before, after
        Its value in either mix, as plain data in the form in which the mix is kept.
    kind
        "value": what a field holds. "part": a part with a name that came or went, None where it
        is not there. "order": the names of parts in their order. "stretch": neighbours in a list
        that goes by place.
    place : int
        Where a part stands among its like, or where a stretch begins.
    """

    at: Way
    before: Any
    after: Any
    kind: Literal["value", "part", "order", "stretch"] = "value"
    place: int = 0

    @property
    def inverse(self) -> "Change":
        """The change that takes this one back."""
        return Change(self.at, self.after, self.before, self.kind, self.place)

    def plain(self) -> dict[str, Any]:
        """The change as plain data; `of` reads it."""
        return asdict(self)

    @classmethod
    def of(cls, plain: dict[str, Any]) -> "Change":
        """The change that `plain` gave."""
        return cls(**{**plain, "at": tuple(plain["at"])})


def inverted(changes: Sequence[Change]) -> list[Change]:
    """What takes changes back, in an order in which it can be made."""
    return [change.inverse for change in reversed(changes)]


def find_difference(before: Any, after: Any, form: KeptForm = AS_THEY_ARE) -> list[Change]:
    """List what turns one mix into another, in an order in which it can be made.

    Parameters
    ----------
    before, after : Mix
        Frozen trees, or the same as plain data (lanes then stand in `Leaf`).
    form
        How values are kept in the changes.

    Returns
    -------
    list of Change
        Nothing is looked for in what is the same object in both.
    """
    return list(_between(before, after, (), form))


def _name_of(part: Any, field: str) -> str:
    """The name of a part of a list that a field of this name holds."""
    key = _NAMES[field]
    if not key:
        return str(part)
    return str(part[key] if isinstance(part, dict) else getattr(part, key))


class Leaf(dict[str, Any]):
    """Plain data that is one value, however many fields it has."""


def _between(old: Any, new: Any, at: Way, form: KeptForm) -> Iterator[Change]:
    if old is new:
        return
    if isinstance(old, BaseModel) and type(old) is type(new):
        for name in type(old).model_fields:
            yield from _between(getattr(old, name), getattr(new, name), (*at, name), form)
    elif type(old) is dict and type(new) is dict:
        for name in {**old, **new}:
            if name in old and name in new:
                yield from _between(old[name], new[name], (*at, name), form)
            else:
                yield Change((*at, name), old.get(name), new.get(name), "part")
    elif isinstance(old, tuple | list) and isinstance(new, tuple | list):
        between = _between_named if at[-1] in _NAMES else _between_placed
        yield from between(old, new, at, form)
    elif old != new:
        yield Change(at, form.dump(old), form.dump(new))


def _between_named(
    old: Sequence[Any], new: Sequence[Any], at: Way, form: KeptForm
) -> Iterator[Change]:
    field = str(at[-1])
    olds = {_name_of(part, field): part for part in old}
    news = {_name_of(part, field): part for part in new}
    names = list(olds)
    for place, name in reversed(list(enumerate(olds))):
        if name not in news:
            names.remove(name)
            yield Change((*at, name), form.dump(olds[name]), None, "part", place)
    for name in names:
        yield from _between(olds[name], news[name], (*at, name), form)
    for place, name in enumerate(news):
        if name not in olds:
            names.insert(place, name)
            yield Change((*at, name), None, form.dump(news[name]), "part", place)
    if names != list(news):
        yield Change(at, list(olds), list(news), "order")


def _between_placed(
    old: Sequence[Any], new: Sequence[Any], at: Way, form: KeptForm
) -> Iterator[Change]:
    shorter = min(len(old), len(new))
    first = next((n for n in range(shorter) if not _same(old[n], new[n])), shorter)
    rest = shorter - first
    last = next((n for n in range(rest) if not _same(old[-1 - n], new[-1 - n])), rest)
    olds, news = old[first : len(old) - last], new[first : len(new) - last]
    if not olds and not news:
        return
    if len(olds) == len(news) and all(map(_alike, olds, news)) and not _moved(olds, news):
        for place, (one, other) in enumerate(zip(olds, news, strict=True), start=first):
            yield from _between(one, other, (*at, place), form)
    else:
        held = (form.dump(tuple(olds)), form.dump(tuple(news)))
        yield Change(at, *held, "stretch", first)


def _same(one: Any, other: Any) -> bool:
    return bool(one is other or one == other)


def _alike(one: Any, other: Any) -> bool:
    """Whether one part may have become the other by changes of its values."""
    if type(one) is dict and type(other) is dict:
        return bool(one.get("kind") == other.get("kind"))
    return isinstance(one, BaseModel) and type(one) is type(other)


def _moved(olds: Sequence[Any], news: Sequence[Any]) -> bool:
    """Whether a part stands at another place than it did."""
    return any(
        _same(one, other) for i, one in enumerate(olds) for j, other in enumerate(news) if i != j
    )


def with_changes(mix: Mix, changes: Iterable[Change], form: KeptForm = AS_THEY_ARE) -> Mix:
    """The mix with changes made; parts that they do not touch stay the same objects.

    Raises InputError where what they change is gone or is not what they found, and where the mix
    does not hang together afterwards.
    """
    changed = _made(mix, changes, form)
    try:
        hangs_together(changed)
    except ValueError as error:
        raise InputError(f"{error}.") from None
    return changed


def with_changes_that_fit(mix: Mix, changes: Iterable[Change], form: KeptForm) -> Mix:
    """The same, without what refers to something that is not there afterwards."""
    return without_dangling(_made(mix, changes, form))


def _made(mix: Mix, changes: Iterable[Change], form: KeptForm) -> Mix:
    fields: dict[str, Any] = {}
    for change in changes:
        name = str(change.at[0])
        if name not in fields:
            fields[name] = _opened(getattr(mix, name), form)
        _make(fields, change.at, change, form)
    try:
        return mix.model_copy(
            update={
                name: _field_of_mix(name).validate_python(held, context=form)
                for name, held in fields.items()
            }
        )
    except ValidationError:
        raise InputError(_OTHERWISE) from None


@cache
def _field_of_mix(name: str) -> TypeAdapter[Any]:
    field = Mix.model_fields[name]
    return TypeAdapter(field.rebuild_annotation())


def _make(into: Any, way: Way, change: Change, form: KeptForm) -> None:
    """Make a change in plain data, `way` being the rest of the way to it."""
    if not isinstance(into, dict):
        raise InputError(_GONE)
    name = str(way[0])
    if len(way) == 1 and change.kind in ("value", "part"):
        _set(into, name, change, form)
        return
    into[name] = _opened(into.get(name), form)
    if len(way) > 1:
        _step(into[name], name, way[1:], change, form)
    elif change.kind == "order":
        _reorder(into[name], name, change)
    else:
        _swap(into[name], change, form)


def _set(into: dict[str, Any], name: str, change: Change, form: KeptForm) -> None:
    """Set a field, or take away what was not told of it before."""
    came = change.kind == "part" and change.before is None
    if not came and not _holds(into.get(name), change.before, form):
        raise InputError(_OTHERWISE)
    if change.kind == "part" and change.after is None:
        into.pop(name)
    else:
        into[name] = change.after


def _step(into: Any, name: str, way: Way, change: Change, form: KeptForm) -> None:
    """Go on into what a field called `name` holds."""
    if not isinstance(into, list):
        _make(into, way, change, form)
        return
    if name in _NAMES:
        place = next((n for n, part in enumerate(into) if _name_of(part, name) == way[0]), None)
    else:
        place = int(way[0]) if int(way[0]) < len(into) else None
    if len(way) == 1 and change.kind == "part":
        _come_or_go(into, place, change)
    elif place is None:
        raise InputError(_GONE)
    else:
        into[place] = _opened(into[place], form)
        _make(into[place], way[1:], change, form)


def _come_or_go(into: list[Any], place: int | None, change: Change) -> None:
    if change.after is None:
        if place is None:
            raise InputError(_GONE)
        del into[place]
    elif place is not None:
        raise InputError(_OTHERWISE)
    else:
        into.insert(change.place, change.after)


def _reorder(into: list[Any], name: str, change: Change) -> None:
    """Put parts in the order that is told; others that have come since stay where they are."""
    ranks = {part: n for n, part in enumerate(change.after)}
    places = [n for n, part in enumerate(into) if _name_of(part, name) in ranks]
    ordered = sorted((into[n] for n in places), key=lambda part: ranks[_name_of(part, name)])
    for place, part in zip(places, ordered, strict=True):
        into[place] = part


def _swap(into: list[Any], change: Change, form: KeptForm) -> None:
    here = slice(change.place, change.place + len(change.before))
    if not _holds(into[here], change.before, form):
        raise InputError(_OTHERWISE)
    into[here] = change.after


def _opened(value: Any, form: KeptForm) -> Any:
    """What can be changed in place, of a frozen part."""
    return list(value) if isinstance(value, tuple) else form.dump(value)


def _holds(value: Any, told: Any, form: KeptForm) -> bool:
    """Whether a value is what was told of it; fields that it has got since are not told."""
    value = form.dump(value)
    if isinstance(told, dict) and isinstance(value, dict):
        return all(name in value and _holds(value[name], part, form) for name, part in told.items())
    if isinstance(told, list) and isinstance(value, list):
        return len(told) == len(value) and all(
            _holds(one, part, form) for one, part in zip(value, told, strict=True)
        )
    return bool(value == told)


def without_dangling(mix: Mix) -> Mix:
    """The mix without sends, outputs, groups, prints and lanes that lead to what is not there."""
    buses, groups = {bus.id for bus in mix.buses}, {group.id for group in mix.groups}
    strips = {strip.id: strip for strip in mix.strips}

    def change(strip: Any) -> Any:
        update: dict[str, Any] = {}
        if any(send.bus not in buses for send in strip.sends):
            update["sends"] = tuple(send for send in strip.sends if send.bus in buses)
        if strip.output is not None and strip.output not in {*buses, PROGRAMME}:
            update["output"] = None
        if strip.group is not None and strip.group not in groups:
            update["group"] = None
        if getattr(strip, "print_of", None) not in {None, *strips}:
            update["print_of"] = None
        return strip.model_copy(update=update) if update else strip

    mended = mix.with_strips(change)
    held = {strip.id: strip for strip in mended.strips}
    lanes = tuple(lane for lane in mix.automation if _leads_somewhere(lane.target, held))
    whole = len(lanes) == len(mix.automation)
    return mended if whole else mended.model_copy(update={"automation": lanes})


def _leads_somewhere(target: str, strips: dict[str, Any]) -> bool:
    try:
        lane_path(target, strips)
    except ValueError:
        return False
    return True


def find_conflict(mine: Iterable[Change], theirs: Iterable[Change]) -> Conflict:
    """Tell how changes that are to be made meet others that were not seen.

    Returns
    -------
    Conflict
        "value": both set the same, and nothing else about it is new. "structure": what it stands
        in came, went or was reordered, so that it may not be what was meant.
    """
    others: dict[Way, list[Change]] = {}
    above: set[Way] = set()
    for their in theirs:
        others.setdefault(their.at, []).append(their)
        above.update(their.at[:n] for n in range(len(their.at)))
    found: Conflict = "none"
    for change in mine:
        if change.at in above and change.kind != "order":
            return "structure"
        for n in range(len(change.at)):
            if any(their.kind != "order" for their in others.get(change.at[:n], ())):
                return "structure"
        for their in others.get(change.at, ()):
            orders = change.kind == their.kind == "order"
            values = change.kind == their.kind == "value"
            if orders or (values and _shape(their.before) == _shape(their.after)):
                found = "value"
            else:
                return "structure"
    return found


def _shape(value: Any) -> Any:
    """A value without its numbers and words: what it is made of, and how much of it there is."""
    if isinstance(value, dict):
        return {name: _shape(part) for name, part in value.items()}
    if isinstance(value, list):
        return [_shape(part) for part in value]
    return None
