"""The one way a mix is changed: rows before and after are kept, so every change can be undone."""

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from django.db import transaction

from metaphon.core.errors import InputError
from metaphon.core.scene.mix import Mix as Scene
from metaphon.web.mixes import assemble, watch
from metaphon.web.mixes.assemble import TABLES, Rows, rows_of
from metaphon.web.mixes.models import JournalEntry, Mix
from metaphon.web.mixes.permissions import User, require_editor

_BY_NAME = {model.__name__: model for model, _ in TABLES}

Change = dict[str, Any]


class StaleEdit(InputError):
    """Somebody else changed the same thing since it was last shown here."""


@contextmanager
def edit(mix: Mix, user: User, what: str, seen: int | None = None) -> Iterator[Mix]:
    """Change a mix's rows inside this block; the change lands whole or not at all.

    `seen` is the revision the person was looking at. Raises StaleEdit where somebody else has since changed
    the same value, InputError where the mix would no longer hang together, PermissionDenied for listeners.
    """
    with transaction.atomic():
        locked = Mix.objects.select_for_update().get(pk=mix.pk)
        require_editor(locked, user)
        before = rows_of(locked)
        yield locked
        _record(locked, user, what, before, seen, JournalEntry.Kind.EDIT)
    mix.refresh_from_db()


def undo(mix: Mix, user: User) -> JournalEntry:
    """Take back this person's last change. Raises InputError where there is none or others have built on it."""
    return _step(mix, user, next_undo(mix, user), JournalEntry.Kind.UNDO)


def redo(mix: Mix, user: User) -> JournalEntry:
    """Do again what this person last took back. Raises InputError as `undo` does."""
    return _step(mix, user, next_redo(mix, user), JournalEntry.Kind.REDO)


def next_undo(mix: Mix, user: User) -> JournalEntry | None:
    return mix.journal.filter(user=user.pk, kind=JournalEntry.Kind.EDIT, undone=False).first()


def next_redo(mix: Mix, user: User) -> JournalEntry | None:
    """The earliest undone edit that no later edit of the same person has made void."""
    last = next_undo(mix, user)
    undone = mix.journal.filter(user=user.pk, kind=JournalEntry.Kind.EDIT, undone=True)
    return undone.filter(revision__gt=last.revision if last else 0).last()


def scene_at(mix: Mix, revision: int) -> Scene:
    """The mix as it was at a revision; nothing is changed. Raises InputError for one that it never had."""
    if not 0 <= revision <= mix.revision:
        raise InputError("The history has no such state; choose another.")
    with transaction.atomic():
        for entry in mix.journal.filter(revision__gt=revision):
            _apply(entry.changes, False)
        found = assemble.scene_of(Mix.objects.get(pk=mix.pk))
        transaction.set_rollback(True)
    return found


def _step(mix: Mix, user: User, entry: JournalEntry | None, kind: str) -> JournalEntry:
    forward = kind == JournalEntry.Kind.REDO
    if entry is None:
        raise InputError(f"There is nothing to {'do again' if forward else 'undo'}.")
    with transaction.atomic():
        locked = Mix.objects.select_for_update().get(pk=mix.pk)
        require_editor(locked, user)
        before = rows_of(locked)
        _apply(entry.changes, forward)
        JournalEntry.objects.filter(pk=entry.pk).update(undone=not forward)
        locked.refresh_from_db()
        what = f"{'Did again' if forward else 'Undid'}: {entry.what}"
        _record(locked, user, what[:255], before, entry.revision, kind)
    mix.refresh_from_db()
    return entry


def _record(mix: Mix, user: User, what: str, before: Rows, seen: int | None, kind: str) -> None:
    mix.refresh_from_db()
    after = rows_of(mix)
    changes = _differences(before, after)
    if not changes:
        return
    assemble.checked(mix, after)
    _refuse_stale(mix, user, changes, seen)
    mix.revision += 1
    mix.save(update_fields=["revision"])
    JournalEntry.objects.create(mix=mix, user_id=user.pk, revision=mix.revision, kind=kind, what=what, changes=changes)
    watch.tell(mix)


def _differences(before: Rows, after: Rows) -> list[Change]:
    changes = []
    for key in {**before, **after}:
        old, new = before.get(key), after.get(key)
        if old == new:
            continue
        if old is not None and new is not None:
            fields = [name for name in new if new[name] != old[name]]
            old, new = {name: old[name] for name in fields}, {name: new[name] for name in fields}
        changes.append({"table": key[0], "id": key[1], "before": old, "after": new})
    return changes


def _touched(changes: list[Change]) -> set[tuple[str, int, str]]:
    """What a list of changes writes: single values, or "*" for a row that came or went."""
    return {
        (change["table"], change["id"], name)
        for change in changes
        for name in (change["after"] if change["before"] and change["after"] else ["*"])
    }


def _refuse_stale(mix: Mix, user: User, changes: list[Change], seen: int | None) -> None:
    if seen is None or seen >= mix.revision:
        return
    mine = _touched(changes)
    rows = {(table, row) for table, row, _ in mine}
    for entry in mix.journal.filter(revision__gt=seen).exclude(user=user.pk).select_related("user"):
        theirs = _touched(entry.changes)
        gone = {(table, row, name) for table, row, name in theirs if name == "*" and (table, row) in rows}
        if mine & theirs or gone:
            who = entry.user.get_username() if entry.user else "Somebody"
            raise StaleEdit(f"{who} changed this in the meantime ({entry.what}). Nothing was overwritten; look again.")


def _apply(changes: list[Change], forward: bool) -> None:
    towards, away = ("after", "before") if forward else ("before", "after")
    order = list(_BY_NAME)
    made = [change for change in changes if change[towards] and not change[away]]
    for change in sorted(made, key=lambda change: order.index(change["table"])):
        _BY_NAME[change["table"]](**change[towards]).save(force_insert=True)
    for change in changes:
        if change[towards] and change[away]:
            model = Mix if change["table"] == "Mix" else _BY_NAME[change["table"]]
            model._default_manager.filter(pk=change["id"]).update(**change[towards])
    gone = [change for change in changes if not change[towards]]
    for change in sorted(gone, key=lambda change: -order.index(change["table"])):
        _BY_NAME[change["table"]]._default_manager.filter(pk=change["id"]).delete()
