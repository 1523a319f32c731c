"""What is one's own: the name shown, the address for mail, the password, and leaving for good."""

from typing import Any

from django.conf import settings
from django.contrib.auth import get_user_model, logout, update_session_auth_hash
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.core.validators import validate_email
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render, resolve_url
from django.views.decorators.http import require_POST
from django_otp import user_has_device

from metaphon.core.errors import InputError
from metaphon.web.audit.models import AuditEntry
from metaphon.web.audit.recording import record_event
from metaphon.web.mixes.membership import remove_member
from metaphon.web.mixes.models import Member, Mix
from metaphon.web.mixes.removing import delete_mix
from metaphon.web.people.credentials import end_what_credentials_began, require_credentials
from metaphon.web.people.models import SpareCodes
from metaphon.web.people.sessions import sessions_of

_LONGEST_NAME = 150


def account(request: HttpRequest) -> HttpResponse:
    """Everything of one's own account."""
    return show_account(request)


def show_account(request: HttpRequest, **more: object) -> HttpResponse:
    """The page of one's own account, with what else is to be said on it."""
    user: Any = request.user
    own, shared = _owned_alone(user)
    sessions = sessions_of(request)
    context = {
        "has_second": user_has_device(user),
        "spare": sum(len(row.digests) for row in SpareCodes.objects.filter(user=user)),
        "sessions": sessions,
        "new_places": any(record.is_new_place for record in sessions[1:]),
        "here": request.session.session_key,
        "goes": own,
        "stays": shared,
        "has_password": user.has_usable_password(),
        "has_mail": bool(settings.EMAIL_HOST),
        **more,
    }
    return render(request, "people/account.html", context)


@require_POST
def rename(request: HttpRequest) -> HttpResponse:
    """Set the name by which others see this person."""
    user: Any = request.user
    user.first_name = request.POST.get("name", "").strip()[:_LONGEST_NAME]
    user.save(update_fields=["first_name"])
    return redirect("account")


@require_POST
def set_mail(request: HttpRequest) -> HttpResponse:
    """Set the address that a link for a forgotten password is sent to, or none."""
    user = require_credentials(request)
    address = request.POST.get("email", "").strip()
    if address:
        try:
            validate_email(address)
        except ValidationError:
            raise InputError(
                "This is no address for mail; type it as name@house.example."
            ) from None
    user.email = address
    user.save(update_fields=["email"])
    return show_account(request, said="The address is kept." if address else "No address is kept.")


@require_POST
def change_password(request: HttpRequest) -> HttpResponse:
    """Another password; everywhere else this person is signed out."""
    user = require_credentials(request)
    fresh = request.POST.get("fresh", "")
    check_password_text(fresh, user)
    user.set_password(fresh)
    user.save(update_fields=["password"])
    update_session_auth_hash(request, user)
    end_what_credentials_began(user, request)
    record_event(AuditEntry.Kind.PASSWORD_CHANGED)
    return show_account(
        request,
        said="The password is changed. Other sessions and all API tokens are ended.",
    )


def check_password_text(text: str, user: Any = None) -> None:
    """Raises InputError in one sentence for a password that is too easy."""
    try:
        validate_password(text, user)
    except ValidationError as error:
        raise InputError(f"{' '.join(error.messages)} Choose another.") from None


@require_POST
def remove(request: HttpRequest) -> HttpResponse:
    """Delete the account and what is its own alone."""
    user = require_credentials(request)
    own, shared = _owned_alone(user)
    if shared:
        names = ", ".join(mix.title for mix in shared)
        raise InputError(
            f"Others work in {names}, and you alone own it; make one of them owner, or delete it."
        )
    for mix in own:
        delete_mix(mix)
    for member in Member.objects.filter(user=user).select_related("mix"):
        remove_member(member.mix, user)  # somebody else may have left meanwhile
    logout(request)
    get_user_model().objects.filter(pk=user.pk).delete()
    return HttpResponse(headers={"HX-Redirect": resolve_url("sign_in")})


def _owned_alone(user: Any) -> tuple[list[Mix], list[Mix]]:
    """The mixes that nobody else owns: those nobody else works in, and those others work in."""
    owned = Mix.objects.filter(members__user=user, members__role=Member.Role.OWNER)
    own: list[Mix] = []
    shared: list[Mix] = []
    for mix in owned.prefetch_related("members"):
        others = [member for member in mix.members.all() if member.user_id != user.pk]
        if any(member.role == Member.Role.OWNER for member in others):
            continue
        (shared if others else own).append(mix)
    return own, shared
