"""Who takes part in a mix, changed one at a time, so that a mix always keeps an owner."""

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from django.db import transaction

from metaphon.core.errors import InputError
from metaphon.web.audit.models import AuditEntry
from metaphon.web.audit.recording import record_event
from metaphon.web.mixes.models import Member, Mix


@contextmanager
def alone_with(mix: Mix) -> Iterator[None]:
    """Hold a mix against all others who count or change what belongs to it, until the end."""
    with transaction.atomic():
        Mix.objects.select_for_update().filter(pk=mix.pk).first()
        yield


def set_role(mix: Mix, user: Any, role: str) -> None:
    """Make somebody a member with a role, or give a member another one.

    Raises InputError where no owner would be left.
    """
    with alone_with(mix):
        Member.objects.update_or_create(mix=mix, user=user, defaults={"role": role})
        _require_owner(mix)
        record_event(AuditEntry.Kind.MEMBER_SET, mix=mix, details=f"{user.get_username()}: {role}")


def remove_member(mix: Mix, user: Any) -> None:
    """Take somebody out of a mix. Raises InputError where no owner would be left."""
    with alone_with(mix):
        mix.members.filter(user=user).delete()
        _require_owner(mix)
        record_event(AuditEntry.Kind.MEMBER_REMOVED, mix=mix, details=user.get_username())


def _require_owner(mix: Mix) -> None:
    if not mix.members.filter(role=Member.Role.OWNER).exists():
        raise InputError(
            f"{mix.title} would be left without an owner; make somebody else owner first, or "
            "delete it."
        )
