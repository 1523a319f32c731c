"""Where on a page a change of the mix shows: strips, and the values of them."""

from collections.abc import Iterable

from metaphon.core.document.difference import Change

Place = tuple[str, str]  # the id of a strip and the path of a value; either may be empty
_MOST = 60


def find_changed_places(changes: Iterable[Change]) -> list[Place]:
    """List where changes show, each place once and no more than a page could mark."""
    found = {_place_of(change): None for change in changes}
    found.pop(("", ""), None)
    return list(found)[:_MOST]


def _place_of(change: Change) -> Place:
    """The place where one change shows; empty for what is of the whole mix."""
    match [str(step) for step in change.at]:
        case ["tracks" | "buses", strip, "clips", *_]:
            return strip, "clip"
        case ["tracks" | "buses", strip, "sends", bus, *_]:
            return strip, f"sends/{bus}"
        case ["tracks" | "buses", strip, *path]:
            return strip, "/".join(path)
        case ["automation", target, *_]:
            moved, _, value = target.partition("/")
            return moved, value
    return "", ""
