"""Where on a page a change of the mix shows: strips, and the values of them."""

from collections.abc import Iterable

from metaphon.web.mixes.models import Clip, Mix, Placement, Processor, Send
from metaphon.web.mixes.rows import Change

Place = tuple[str, str]  # the id of a strip and the path of a value; either may be empty
_MOST = 60
_OWNERS = {
    "Clip": (Clip, "track_id"),
    "Send": (Send, "source_id"),
    "Processor": (Processor, "strip_id"),
    "Placement": (Placement, "strip_id"),
}


def find_changed_places(mix: Mix, changes: Iterable[Change]) -> list[Place]:
    """List where changes show, each place once and no more than a page could mark."""
    changes = list(changes)
    refs = dict(mix.strips.values_list("pk", "ref"))
    owners = {table: _owners_of(table, changes) for table in _OWNERS}
    found: dict[Place, None] = {}
    for change in changes:
        table, key = change["table"], change["id"]
        values = change["after"] or change["before"]
        if table == "Automation":
            target = values.get("target") or _target_of(mix, key)
            strip, _, path = target.partition("/")
            found[strip, path] = None
        elif table == "Strip":
            strip = refs.get(key) or values.get("ref", "")
            found.update(dict.fromkeys((strip, name) for name in values))
        elif table in _OWNERS:
            strip = refs.get(owners[table].get(key, 0), "")
            found.update(dict.fromkeys((strip, path) for path in _paths_in(change)))
    return list(found)[:_MOST]


def _paths_in(change: Change) -> list[str]:
    """The paths of what changed in a row that belongs to a strip."""
    before, after = change["before"] or {}, change["after"] or {}
    match change["table"]:
        case "Placement":
            return [f"placement/{name}" for name in after or before]
        case "Processor":
            places = Processor.objects.filter(pk=change["id"]).values_list("position", flat=True)
            path = f"chain/{places.first() or 0}"
            old, new = (values.get("parameters") or {} for values in (before, after))
            return [f"{path}/{name}" for name in new if new[name] != old.get(name)] or [path]
        case "Send":
            buses = Send.objects.filter(pk=change["id"]).values_list("bus__ref", flat=True)
            return [f"sends/{buses.first() or ''}"]
        case table:
            return [table.lower()]


def _owners_of(table: str, changes: list[Change]) -> dict[int, int]:
    """The strip that each changed row of a table belongs to."""
    model, owner = _OWNERS[table]
    own = [change for change in changes if change["table"] == table]
    found = {
        change["id"]: values[owner]
        for change in own
        if owner in (values := change["after"] or change["before"])
    }
    missing = [change["id"] for change in own if change["id"] not in found]
    if missing:
        found.update(model._default_manager.filter(pk__in=missing).values_list("pk", owner))
    return found


def _target_of(mix: Mix, key: int) -> str:
    return mix.automation.filter(pk=key).values_list("target", flat=True).first() or ""
