"""Invitations: by a link, to who makes an account or has one; or by name, as an offer."""

from datetime import timedelta
from typing import Any

from django.conf import settings
from django.contrib.auth import get_user_model, login
from django.contrib.auth.decorators import login_not_required
from django.contrib.auth.validators import UnicodeUsernameValidator
from django.core.exceptions import ValidationError
from django.db import transaction
from django.db.models import QuerySet
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils.timezone import now
from django.views.decorators.http import require_POST

from metaphon.core.errors import InputError
from metaphon.web.audit.models import AuditEntry
from metaphon.web.audit.recording import record_event
from metaphon.web.mixes.membership import alone_with, set_role
from metaphon.web.mixes.models import Member, Mix
from metaphon.web.mixes.permissions import owned
from metaphon.web.people.accounts import check_password_text
from metaphon.web.people.models import Invitation
from metaphon.web.shell.posted import number_in
from metaphon.web.shell.secrets import digest_of, new_secret

_DAYS = {1: "a day", 7: "a week", 30: "a month"}
_MOST_OPEN = 100  # of one mix
_OVER = "This invitation is over or was used; ask for another."


@require_POST
def make(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Make a link; it is shown this once."""
    mix = owned(request, mix_id)
    row, text, days = _invitation(request, mix)
    address = request.build_absolute_uri(reverse("invited", args=[text]))
    context = {"mix": mix, "row": row, "address": address, "lasts": _DAYS[days]}
    return render(request, "people/invitation.html", context)


@require_POST
def offer(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Offer a part to whoever signs in by a name; whether there is such a person is not told."""
    mix = owned(request, mix_id)
    username = request.POST.get("username", "").strip()[:150]
    if not username:
        raise InputError("Type the name that the person signs in by.")
    if mix.members.filter(user__username=username).exists():
        raise InputError(f"{username} takes part in this mix already.")
    _invitation(request, mix, username)
    return redirect("mixes")


def _invitation(request: HttpRequest, mix: Mix, username: str = "") -> tuple[Invitation, str, int]:
    """A new invitation, the text that opens it, and for how many days."""
    role, days = request.POST.get("role", ""), number_in(request.POST.get("days", "30"))
    if role not in Member.Role.values:
        raise InputError("Choose owner, editor or listener.")
    if days not in _DAYS:
        raise InputError("Choose how long the invitation lasts from the list.")
    text, digest = new_secret()
    with alone_with(mix):
        if username:
            mix.invitations.filter(username=username, used_at=None).delete()
        if mix.invitations.filter(used_at=None, ends_at__gt=now()).count() >= _MOST_OPEN:
            raise InputError(f"{_MOST_OPEN} invitations are open; take some back first.")
        row = Invitation.objects.create(
            mix=mix,
            role=role,
            username=username,
            digest=digest,
            made_by_id=int(request.user.pk or 0),
            ends_at=now() + timedelta(days=days),
        )
        whom = username or "by link"
        record_event(AuditEntry.Kind.INVITATION_MADE, mix=mix, details=f"{role}, {whom}")
    return row, text, days


@require_POST
def revoke(request: HttpRequest, mix_id: int, invitation_id: int) -> HttpResponse:
    """Take an invitation back that was not used yet."""
    mix = owned(request, mix_id)
    if mix.invitations.filter(pk=invitation_id, used_at=None).delete()[0]:
        record_event(AuditEntry.Kind.INVITATION_REVOKED, mix=mix)
    return redirect("mixes")


def offers(request: HttpRequest) -> HttpResponse:
    """The mixes that this person was offered a part in."""
    return render(request, "people/offers.html", {"offers": _open_offers(request)})


@require_POST
def answer_offer(request: HttpRequest, invitation_id: int) -> HttpResponse:
    """Take part as was offered, or decline."""
    row = get_object_or_404(_open_offers(request), pk=invitation_id)
    if "decline" in request.POST:
        row.delete()
        return redirect("mixes")
    with transaction.atomic():
        _use(row, request.user)
    return redirect("open_mix", row.mix_id)


def _open_offers(request: HttpRequest) -> QuerySet[Invitation]:
    user: Any = request.user
    rows = Invitation.objects.select_related("mix", "made_by").exclude(username="")
    return rows.filter(username=user.get_username(), used_at=None, ends_at__gt=now())


@login_not_required
def invited(request: HttpRequest, text: str) -> HttpResponse:
    """What one is invited to; a person with an account joins, another makes one."""
    rows = Invitation.objects.select_related("mix", "made_by")
    row = rows.filter(digest=digest_of(text), username="").first()
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
        _use(row, user)
    if fresh:
        login(request, user, backend=settings.AUTHENTICATION_BACKENDS[-1])
    return redirect("open_mix", row.mix_id)


def _use(row: Invitation, user: Any) -> None:
    """Make somebody a member by an invitation; who may do more already keeps it."""
    held = Invitation.objects.select_for_update().filter(pk=row.pk).first()
    if held is None or not held.is_open:
        raise InputError(_OVER)
    held.used_by, held.used_at = user, now()
    held.save(update_fields=["used_by", "used_at"])
    member = Member.objects.filter(mix=row.mix, user=user).first()
    order = Member.Role.values  # the first may do most
    if member is None or order.index(row.role) < order.index(member.role):
        set_role(row.mix, user, row.role)
    record_event(AuditEntry.Kind.INVITATION_USED, user=user, mix=row.mix, details=row.role)


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
