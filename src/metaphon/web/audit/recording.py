"""Writing the audit trail, and giving it out as a table."""

import csv
import io
from collections.abc import Iterable
from typing import Any

from django.db.models import QuerySet

from metaphon.web.audit.models import AuditEntry
from metaphon.web.shell.asked_by import current_request

_COLUMNS = ("time", "event", "person", "mix", "address", "details")


def record_event(
    kind: AuditEntry.Kind,
    *,
    user: Any = None,
    username: str = "",
    mix: Any = None,
    details: str = "",
) -> None:
    """Add an entry to the audit trail, with the address of the request that is being answered.

    Parameters
    ----------
    kind : AuditEntry.Kind
        What happened.
    user : User, optional
        Who did it; the person of the request where none is given.
    username : str
        The name typed, where nobody is signed in by it.
    mix : Mix, optional
        The mix it is about.
    details : str
        What else is to be known, such as whose role it was; never a secret.
    """
    request = current_request()
    actor: Any = user if user is not None else getattr(request, "user", None)
    known = actor is not None and actor.is_authenticated
    AuditEntry.objects.create(
        kind=kind,
        user_id=actor.pk if known else None,
        username=(actor.get_username() if known else username)[:150],
        mix_id=mix.pk if mix is not None else None,
        mix_title=mix.title if mix is not None else "",
        address=(request.META.get("REMOTE_ADDR") or None) if request is not None else None,
        details=details[:300],
    )


def entries_as_csv(entries: Iterable[AuditEntry]) -> str:
    """The entries as a table of comma-separated values (RFC 4180), times in UTC."""
    text = io.StringIO()
    table = csv.writer(text)
    table.writerow(_COLUMNS)
    for entry in entries:
        row = (
            entry.at.isoformat(timespec="seconds"),
            entry.get_kind_display(),
            entry.username,
            entry.mix_title,
            entry.address or "",
            entry.details,
        )
        table.writerow([_without_formula(cell) for cell in row])
    return text.getvalue()


def _without_formula(cell: str) -> str:
    # a spreadsheet would carry out what begins so
    return f"'{cell}" if cell[:1] in ("=", "+", "-", "@", "\t", "\r") else cell


def entries_of_mix(mix: Any) -> QuerySet[AuditEntry]:
    """The entries about a mix, the latest first."""
    return AuditEntry.objects.filter(mix_id=mix.pk)
