"""Who may do what: a mix exists only for its members."""

from functools import wraps
from typing import Any

from django.contrib.auth.models import AbstractBaseUser, AnonymousUser
from django.core.exceptions import PermissionDenied
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_POST

from metaphon.web.mixes.models import Member, Mix
from metaphon.web.shell.fragments import View

User = AbstractBaseUser | AnonymousUser


def mix_for(request: HttpRequest, mix_id: int) -> Mix:
    """The mix, for a member; for anybody else it is not there (Http404)."""
    return get_object_or_404(Mix, pk=mix_id, members__user=request.user.pk)


def owned(request: HttpRequest, mix_id: int) -> Mix:
    """The mix, for its owners. Raises PermissionDenied for other members."""
    mix = mix_for(request, mix_id)
    if not mix.members.filter(user=request.user.pk, role=Member.Role.OWNER).exists():
        raise PermissionDenied("Only the owner of a mix can do this.")
    return mix


def can_edit(mix: Mix, user: User) -> bool:
    return mix.members.filter(
        user=user.pk, role__in=[Member.Role.OWNER, Member.Role.EDITOR]
    ).exists()


def changes_mix(view: View) -> View:
    """Declare a view that changes a mix: it takes POST, from those alone who may edit the mix."""

    @require_POST
    @wraps(view)
    def guarded(request: HttpRequest, mix_id: int, *args: Any, **rest: Any) -> HttpResponse:
        require_editor(mix_for(request, mix_id), request.user)
        return view(request, mix_id, *args, **rest)

    return guarded


def require_editor(mix: Mix, user: User) -> None:
    """Raises PermissionDenied for those who may only listen."""
    if not can_edit(mix, user):
        raise PermissionDenied("You may listen to this mix but not change it; ask its owner.")
