"""What two people change at once: one value, where the later hand wins, or what it stands in."""

from collections.abc import Iterator
from typing import Any, Literal

from metaphon.web.mixes.models import JournalEntry
from metaphon.web.mixes.rows import Change, Rows

# rows that commands name by their place among those of one strip
_ORDERED = {"Processor": "strip_id", "Clip": "track_id"}
Conflict = Literal["none", "value", "structure"]


def find_conflict(mine: list[Change], entry: JournalEntry, rows: Rows) -> Conflict:
    """Tell how changes that are to be made meet those of an entry that was not seen.

    Parameters
    ----------
    mine : list of Change
        What is to be written.
    entry : JournalEntry
        What somebody else has written meanwhile.
    rows : Rows
        The mix as it is, before `mine`.

    Returns
    -------
    Conflict
        "value": both set the same, and nothing else about it is new. "structure": what it stands
        in came, went or was reordered, so that it may not be what was meant.
    """
    if _moved_lists(entry.changes, rows) & {_list_of(change, rows) for change in mine}:
        return "structure"
    theirs = {(change["table"], change["id"]): change for change in entry.changes}
    found: Conflict = "none"
    for change in mine:
        other = theirs.get((change["table"], change["id"]))
        if other is None:
            continue
        if not all((change["before"], change["after"], other["before"], other["after"])):
            return "structure"
        for name in change["after"].keys() & other["after"].keys():
            if _shape(other["before"][name]) != _shape(other["after"][name]):
                return "structure"
            if _differing(change, name) & _differing(other, name):
                found = "value"
    return found


def _list_of(change: Change, rows: Rows) -> tuple[str, int] | None:
    """The list in which a row has a place: its table and whose it is."""
    owner = _ORDERED.get(change["table"])
    row = rows.get((change["table"], change["id"])) or change["after"] or change["before"]
    return (change["table"], row[owner]) if owner and owner in row else None


def _moved_lists(changes: list[Change], rows: Rows) -> set[tuple[str, int] | None]:
    """The lists in which a place may stand for something else than before."""
    found: dict[tuple[str, int] | None, int] = {}
    for change in changes:
        comes_or_goes = change["before"] is None or change["after"] is None
        one = _list_of(change, rows)
        found[one] = found.get(one, 0) + (2 if comes_or_goes else 1)
    # rows that are put in another order are written one over the other
    return {one for one, count in found.items() if one and count > 1}


def _differing(change: Change, name: str) -> set[tuple[Any, ...]]:
    """The parts of a value that a change sets, each by the way to it."""
    old, new = (dict(_parts(change[side][name])) for side in ("before", "after"))
    return {way for way in old.keys() | new.keys() if old.get(way) != new.get(way)}


def _parts(value: Any, way: tuple[Any, ...] = ()) -> Iterator[tuple[tuple[Any, ...], Any]]:
    if not isinstance(value, dict | list):
        yield way, value
        return
    for key, part in value.items() if isinstance(value, dict) else enumerate(value):
        yield from _parts(part, (*way, key))


def _shape(value: Any) -> Any:
    """A value without its numbers and words: what it is made of, and how much of it there is."""
    if isinstance(value, dict):
        return {name: _shape(part) for name, part in value.items()}
    if isinstance(value, list):
        return [_shape(part) for part in value]
    return None
