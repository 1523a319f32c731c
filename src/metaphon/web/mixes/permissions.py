"""Who may do what: a mix exists only for its members."""

from django.contrib.auth.models import AbstractBaseUser, AnonymousUser
from django.core.exceptions import PermissionDenied
from django.http import HttpRequest
from django.shortcuts import get_object_or_404

from metaphon.web.mixes.models import Member, Mix

User = AbstractBaseUser | AnonymousUser


def mix_for(request: HttpRequest, mix_id: int) -> Mix:
    """The mix, for a member; for anybody else it is not there (Http404)."""
    return get_object_or_404(Mix, pk=mix_id, members__user=request.user.pk)


def can_edit(mix: Mix, user: User) -> bool:
    return mix.members.filter(
        user=user.pk, role__in=[Member.Role.OWNER, Member.Role.EDITOR]
    ).exists()


def require_editor(mix: Mix, user: User) -> None:
    """Raises PermissionDenied for those who may only listen."""
    if not can_edit(mix, user):
        raise PermissionDenied("You may listen to this mix but not change it; ask its owner.")
