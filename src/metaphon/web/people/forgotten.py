"""A forgotten password: a link that sets another, by mail or from the operator.

The links are Django's own: each is for one account, ends after a day, and is void once the password
was set or somebody has signed in. A second factor stays.
"""

from typing import Any

from django.conf import settings
from django.contrib.auth import get_user_model
from django.contrib.auth.decorators import login_not_required
from django.contrib.auth.tokens import default_token_generator
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.utils.encoding import force_bytes
from django.utils.http import urlsafe_base64_decode, urlsafe_base64_encode

from metaphon.core.errors import InputError
from metaphon.web.audit.models import AuditEntry
from metaphon.web.audit.recording import record_event
from metaphon.web.people.accounts import check_password_text
from metaphon.web.people.credentials import end_what_credentials_began
from metaphon.web.people.mail import send_to

_SENT = "If this account has an address for mail, a link is on its way; it lasts a day."
_LONGEST_NAME = 150


def reset_path(user: Any) -> str:
    """The path of a link by which somebody sets another password."""
    number = urlsafe_base64_encode(force_bytes(user.pk))
    return reverse("reset_password", args=[number, default_token_generator.make_token(user)])


@login_not_required
def forgotten(request: HttpRequest) -> HttpResponse:
    """Send a link by mail to who has forgotten the password; whether there is such is not told."""
    context: dict[str, object] = {"has_mail": bool(settings.EMAIL_HOST)}
    if request.method == "POST" and settings.EMAIL_HOST:
        name = request.POST.get("username", "").strip()[:_LONGEST_NAME]
        users: Any = get_user_model().objects
        user = users.filter(username__iexact=name, is_active=True).exclude(email="").first()
        if user is not None:
            _send(request, user)
        context["said"] = _SENT
    return render(request, "people/forgotten.html", context)


def _send(request: HttpRequest, user: Any) -> None:
    address = request.build_absolute_uri(reset_path(user))
    words = (
        f"Somebody asked for another password for {user.get_username()} at Metaphon.\n\n"
        f"Set it here within a day:\n{address}\n\n"
        "If that was not you, nothing needs to be done."
    )
    send_to(user, "Another password for Metaphon", words)


@login_not_required
def reset(request: HttpRequest, number: str, token: str) -> HttpResponse:
    """Set another password by a link."""
    user = _user_of(number)
    if user is None or not default_token_generator.check_token(user, token):
        return render(request, "people/reset.html", {"over": True}, status=410)
    refused = ""
    if request.method == "POST":
        fresh = request.POST.get("fresh", "")
        try:
            check_password_text(fresh, user)
        except InputError as error:
            refused = str(error)
        else:
            user.set_password(fresh)
            user.save(update_fields=["password"])
            end_what_credentials_began(user)
            record_event(AuditEntry.Kind.PASSWORD_CHANGED, user=user, details="by a link")
            return redirect("sign_in")
    context = {"name": user.get_username(), "refused": refused}
    return render(request, "people/reset.html", context, status=422 if refused else 200)


def _user_of(number: str) -> Any:
    try:
        key = int(urlsafe_base64_decode(number).decode())
    except (ValueError, OverflowError):
        return None
    if not 0 < key < 2**31:
        return None
    return get_user_model().objects.filter(pk=key, is_active=True).first()
