"""How much of the disk mixes and people hold, and how much they may."""

import shutil
from pathlib import Path

from django.conf import settings
from django.db.models import Q, QuerySet, Sum

from metaphon.core.errors import InputError
from metaphon.web.mixes.models import Member, Mix
from metaphon.web.mixes.permissions import User
from metaphon.web.shell.templatetags.figures import size

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


def require_space(mix: Mix, more_bytes: int) -> None:
    """Raises InputError where a mix, its owner or the disk has no room for so much more."""
    left = room_bytes(mix)
    if more_bytes <= left:
        return
    raise InputError(
        f"This needs {size(more_bytes)}, and there is room for {size(left)} in this mix. "
        "Remove recordings or results, here or in other mixes of its owner."
    )


def room_bytes(mix: Mix) -> int:
    """How much more a mix may hold, by its own share, its owners' and the disk's."""
    free = shutil.disk_usage(Path(settings.MEDIA_ROOT)).free - settings.RESERVED_BYTES
    shares = [free, settings.MIX_BYTES - held_bytes(Mix.objects.filter(pk=mix.pk))]
    for owner in mix.members.filter(role=Member.Role.OWNER).select_related("user"):
        shares.append(settings.PERSON_BYTES - held_bytes(owned_by(owner.user)))
    return max(int(min(shares)), 0)
