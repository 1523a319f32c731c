"""The one way a mix is changed.

A command of the core; the difference that it makes is kept for undo, and written as rows.
"""

from dataclasses import dataclass

from django.db import transaction
from django.db.models import QuerySet
from django.dispatch import Signal

from metaphon.core.document.difference import (
    Change,
    find_conflict,
    find_difference,
    inverted,
    with_changes_that_fit,
)
from metaphon.core.document.graph import ordered
from metaphon.core.document.mix import Mix as Document
from metaphon.core.document.playable import refuse_unplayable
from metaphon.core.edits.command import Command
from metaphon.core.edits.command import apply as carried_out
from metaphon.core.errors import InputError, StaleEdit
from metaphon.web.mixes import snapshots, watch
from metaphon.web.mixes.models import JournalEntry, Mix
from metaphon.web.mixes.permissions import User, require_editor
from metaphon.web.mixes.rows import write_document
from metaphon.web.mixes.snapshots import Snapshot, changes_of
from metaphon.web.mixes.stored_files import KEPT
from metaphon.web.shell.called import called

edited = Signal()  # with every entry: the mix that is another now


@dataclass(frozen=True)
class Applied:
    """A change that was made: the mix before and after, and what the history says."""

    before: Document
    after: Document
    what: str


def _locked(mix: Mix) -> Mix:
    """The mix, for one change at a time; rows that name it can still be made meanwhile."""
    return Mix.objects.select_for_update(no_key=True).get(pk=mix.pk)


def apply(
    mix: Mix,
    user: User,
    command: Command,
    seen: int | None = None,
    edit: str = "",
    may_overwrite: bool = True,
) -> Applied:
    """Carry out a command; it lands whole or not at all.

    `seen` is the revision the person was looking at, `edit` an id by which a listener knows the
    edit again. Where somebody else has since set the same value the later hand wins and both are
    told, if it `may_overwrite`. Raises StaleEdit where it may not, and where what the value stands
    in has come, gone or been reordered since; InputError where the command cannot be carried out,
    PermissionDenied for listeners.
    """
    with transaction.atomic():
        locked = _locked(mix)
        require_editor(locked, user)
        before = snapshots.document_of(locked)
        what = command.describe(before)[:255]
        after = carried_out(before, command)
        refuse_unplayable(before, after, snapshots.channels_in(locked))
        changes = find_difference(before, after, KEPT)
        if changes:
            met = _refuse_stale(locked, user, changes, seen, may_overwrite)
            write_document(locked, before, after)
            _edits_of(locked, user).filter(undone=True, void=False).update(void=True)
            entry = _record(locked, user, what, changes, JournalEntry.Kind.EDIT, edit)
            if met:
                watch.say(locked.pk, _both_told(met[-1], user, what))
            snapshots.keep(locked, Snapshot(entry.pk, entry.revision, after))
    mix.refresh_from_db()
    return Applied(before, after, what)


def undo(mix: Mix, user: User) -> JournalEntry:
    """Take back this person's last change.

    Raises InputError where there is none, or where it no longer fits what others have made of the
    mix; then the one before it is the next.
    """
    return _step(mix, user, next_undo(mix, user), JournalEntry.Kind.UNDO)


def redo(mix: Mix, user: User) -> JournalEntry:
    """Do again what this person last took back. Raises InputError as `undo` does."""
    return _step(mix, user, next_redo(mix, user), JournalEntry.Kind.REDO)


def next_undo(mix: Mix, user: User) -> JournalEntry | None:
    """The change that `undo` would take back."""
    return _edits_of(mix, user).filter(undone=False, void=False).defer("changes").first()


def next_redo(mix: Mix, user: User) -> JournalEntry | None:
    """The earliest undone edit after which the same person has done nothing else."""
    return _edits_of(mix, user).filter(undone=True, void=False).defer("changes").last()


def _edits_of(mix: Mix, user: User) -> QuerySet[JournalEntry]:
    return mix.journal.filter(user=user.pk, kind=JournalEntry.Kind.EDIT)


def _step(mix: Mix, user: User, entry: JournalEntry | None, kind: str) -> JournalEntry:
    forward = kind == JournalEntry.Kind.REDO
    if entry is None:
        raise InputError(f"There is nothing to {'do again' if forward else 'undo'}.")
    try:
        with transaction.atomic():
            _go(mix, user, entry, kind)
    except InputError as error:
        # left standing it would be in the way of all other steps
        JournalEntry.objects.filter(pk=entry.pk).update(void=True)
        on = "Do again goes on with the next" if forward else "Undo goes on with the one before"
        raise StaleEdit(f"{entry.what}: {error} {on}.") from None
    mix.refresh_from_db()
    return entry


def _go(mix: Mix, user: User, entry: JournalEntry, kind: str) -> None:
    forward = kind == JournalEntry.Kind.REDO
    locked = _locked(mix)
    require_editor(locked, user)
    before = snapshots.document_of(locked)
    wanted = changes_of(entry) if forward else inverted(changes_of(entry))
    _refuse_stale(locked, user, wanted, entry.revision, may_overwrite=False)
    after = with_changes_that_fit(before, wanted, KEPT)
    # what others built on it would go too, so they are asked first
    changes = find_difference(before, after, KEPT)
    _refuse_stale(locked, user, changes, entry.revision, may_overwrite=False)
    ordered(after)
    refuse_unplayable(before, after, snapshots.channels_in(locked))
    write_document(locked, before, after)
    JournalEntry.objects.filter(pk=entry.pk).update(undone=not forward)
    what = f"{'Did again' if forward else 'Undid'}: {entry.what}"
    made = _record(locked, user, what[:255], changes, kind)
    snapshots.keep(locked, Snapshot(made.pk, made.revision, after))


def _record(
    mix: Mix, user: User, what: str, changes: list[Change], kind: str, edit: str = ""
) -> JournalEntry:
    entry = JournalEntry.objects.create(
        mix=mix,
        user_id=user.pk,
        revision=mix.revision + 1,
        kind=kind,
        what=what,
        changes=[change.plain() for change in changes],
        edit=edit[:40],
    )
    Mix.objects.filter(pk=mix.pk).update(revision=entry.revision, state=entry.pk)
    mix.revision, mix.state = entry.revision, entry.pk
    watch.tell(mix)
    edited.send(sender=Mix, mix=mix)
    return entry


def _refuse_stale(
    mix: Mix,
    user: User,
    changes: list[Change],
    seen: int | None,
    may_overwrite: bool,
) -> list[JournalEntry]:
    """The entries of others whose values are overwritten, the latest last, if that may be."""
    if seen is None or seen >= mix.revision:
        return []
    later = mix.journal.filter(revision__gt=seen).exclude(user=user.pk)
    overwritten = []
    for entry in later.order_by("revision").select_related("user"):
        conflict = find_conflict(changes, changes_of(entry))
        if conflict == "structure" or (conflict == "value" and not may_overwrite):
            raise StaleEdit(
                f"{called(entry.user)} changed this in the meantime ({entry.what}). Nothing was "
                "overwritten; look again."
            )
        if conflict == "value":
            overwritten.append(entry)
    return overwritten


def _both_told(earlier: JournalEntry, user: User, what: str) -> dict[str, object]:
    """What the pages of two people say who have set one value at the same time."""
    first, second = called(earlier.user), called(user)
    return {
        "overwritten": f"{first} and {second} set the same at once; {second}'s stays ({what}).",
        "people": [earlier.user_id, user.pk],
    }
