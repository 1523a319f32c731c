"""How much of the disk mixes and people hold, and how much they may."""

import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import connection, transaction
from django.db.models import Q, QuerySet, Sum

from metaphon.core.errors import InputError
from metaphon.web.mixes.models import Member, Mix
from metaphon.web.mixes.permissions import User
from metaphon.web.shell.templatetags.figures import size

_LOCK = 7_301_001  # of PostgreSQL's advisory locks
_ON_ITS_WAY = Q(arrivals__status__in=["receiving", "checking"])
_HOLDING = (
    Sum("audio_files__bytes", default=0),
    Sum("renders__files__bytes", default=0),
    Sum("arrivals__length", filter=_ON_ITS_WAY, default=0),
)


def held_bytes(mixes: QuerySet[Mix]) -> int:
    """What mixes hold: recordings, results, and what is on its way."""
    return sum(mixes.aggregate(all=part)["all"] for part in _HOLDING)


def owned_by(user: User) -> QuerySet[Mix]:
    """The mixes that count as somebody's own."""
    return Mix.objects.filter(members__user=user.pk, members__role=Member.Role.OWNER)


@contextmanager
def reserving() -> Iterator[None]:
    """Hold off everybody else who asks for space, until what was asked for is counted."""
    with transaction.atomic(), connection.cursor() as cursor:
        cursor.execute("select pg_advisory_xact_lock(%s)", [_LOCK])
        yield


def held_by(user: User) -> int:
    """What counts as somebody's own: their mixes, and their heads, headphones and responses."""
    files: Any = user
    own = files.user_files.aggregate(all=Sum("bytes", default=0))["all"]
    own += files.space_responses.aggregate(all=Sum("bytes", default=0))["all"]
    return int(own + held_bytes(owned_by(user)))


def require_own_space(user: User, more_bytes: int) -> None:
    """Raises InputError where somebody or the disk has no room for a file of their own."""
    left = max(min(_free_bytes(), settings.PERSON_BYTES - held_by(user)), 0)
    if more_bytes > left:
        raise InputError(
            f"This needs {size(more_bytes)}, and there is room for {size(left)}. Remove responses "
            "under Reverb, heads or headphones under Listen, or recordings and results of mixes."
        )


def _free_bytes() -> int:
    return int(shutil.disk_usage(Path(settings.MEDIA_ROOT)).free - settings.RESERVED_BYTES)


def require_space(mix: Mix, more_bytes: int) -> None:
    """Raises InputError where a mix, its owner or the disk has no room for so much more."""
    left = room_bytes(mix)
    if more_bytes <= left:
        return
    raise InputError(
        f"This needs {size(more_bytes)}, and there is room for {size(left)} in this mix. "
        "Remove recordings or results, here or in other mixes of its owner, or the owner's "
        "responses and heads."
    )


def room_bytes(mix: Mix) -> int:
    """How much more a mix may hold, by its own share, its owners' and the disk's."""
    shares: list[int] = [
        _free_bytes(),
        settings.MIX_BYTES - held_bytes(Mix.objects.filter(pk=mix.pk)),
    ]
    for owner in mix.members.filter(role=Member.Role.OWNER).select_related("user"):
        shares.append(settings.PERSON_BYTES - held_by(owner.user))
    return max(int(min(shares)), 0)
