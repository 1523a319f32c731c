"""Invitations: a link lets one person in, who makes an account or has one."""

from datetime import timedelta
from typing import Any

from django.contrib.auth import get_user_model, login
from django.contrib.auth.decorators import login_not_required
from django.contrib.auth.validators import UnicodeUsernameValidator
from django.core.exceptions import ValidationError
from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.utils.timezone import now
from django.views.decorators.http import require_POST

from metaphon.core.errors import InputError
from metaphon.web.mixes.models import Member
from metaphon.web.mixes.permissions import owned
from metaphon.web.people.accounts import check_password_text
from metaphon.web.people.models import Invitation
from metaphon.web.shell.posted import number_in
from metaphon.web.shell.secrets import digest_of, new_secret

_DAYS = {1: "a day", 7: "a week", 30: "a month"}
_BACKEND = "django.contrib.auth.backends.ModelBackend"
_OVER = "This invitation is over or was used; ask for another."


@require_POST
def make(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Make a link; it is shown this once."""
    mix = owned(request, mix_id)
    role, days = request.POST.get("role", ""), number_in(request.POST.get("days", ""))
    if role not in Member.Role.values:
        raise InputError("Choose owner, editor or listener.")
    if days not in _DAYS:
        raise InputError("Choose how long the invitation lasts from the list.")
    text, digest = new_secret()
    row = Invitation.objects.create(
        mix=mix,
        role=role,
        digest=digest,
        made_by_id=int(request.user.pk or 0),
        ends_at=now() + timedelta(days=days),
    )
    address = request.build_absolute_uri(reverse("invited", args=[text]))
    context = {"mix": mix, "row": row, "address": address, "lasts": _DAYS[days]}
    return render(request, "people/invitation.html", context)


@require_POST
def revoke(request: HttpRequest, mix_id: int, invitation_id: int) -> HttpResponse:
    """Take a link back that was not used yet."""
    owned(request, mix_id).invitations.filter(pk=invitation_id, used_at=None).delete()
    return redirect("mixes")


@login_not_required
def invited(request: HttpRequest, text: str) -> HttpResponse:
    """What one is invited to; a person with an account joins, another makes one."""
    row = Invitation.objects.select_related("mix", "made_by").filter(digest=digest_of(text)).first()
    if row is None or not row.is_open:
        return render(request, "people/invited.html", {"over": _OVER}, status=410)
    refused = ""
    if request.method == "POST":
        try:
            return _joined(request, row)
        except InputError as error:
            refused = str(error)
    context = {"row": row, "refused": refused, "given": request.POST.get("username", "")}
    return render(request, "people/invited.html", context, status=422 if refused else 200)


def _joined(request: HttpRequest, row: Invitation) -> HttpResponse:
    fresh = not request.user.is_authenticated
    with transaction.atomic():
        user: Any = _account(request) if fresh else request.user
        held = Invitation.objects.select_for_update().get(pk=row.pk)
        if not held.is_open:
            raise InputError(_OVER)
        held.used_by, held.used_at = user, now()
        held.save(update_fields=["used_by", "used_at"])
        _let_in(held, user)
    if fresh:
        login(request, user, backend=_BACKEND)
    return redirect("open_mix", row.mix_id)


def _let_in(row: Invitation, user: Any) -> None:
    """Make somebody a member; who may do more already keeps it."""
    member, made = Member.objects.get_or_create(mix=row.mix, user=user, defaults={"role": row.role})
    order = Member.Role.values  # the first may do most
    if not made and order.index(row.role) < order.index(member.role):
        member.role = row.role
        member.save(update_fields=["role"])


def _account(request: HttpRequest) -> Any:
    """A fresh account. Raises InputError for a name or a password that cannot be."""
    users = get_user_model().objects
    name = request.POST.get("username", "").strip()
    try:
        UnicodeUsernameValidator()(name)
    except ValidationError:
        raise InputError(
            "A name to sign in by has letters, digits and @ . + - _ only; type another."
        ) from None
    if len(name) > 150:
        raise InputError("A name to sign in by has at most 150 letters; type a shorter one.")
    if users.filter(username__iexact=name).exists():
        raise InputError(f"Somebody signs in as {name} already; choose another name.")
    password = request.POST.get("password", "")
    check_password_text(password)
    return users.create_user(name, password=password)
