"""The second factor: set up, replaced, turned off."""

from typing import Any

import segno
from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.views.decorators.http import require_POST
from django_otp import login as mark_verified
from django_otp import user_has_device

from metaphon.core.errors import InputError
from metaphon.web.audit.models import AuditEntry
from metaphon.web.audit.recording import record_event
from metaphon.web.people.accounts import show_account
from metaphon.web.people.credentials import end_what_credentials_began, require_credentials
from metaphon.web.people.models import Authenticator, SpareCodes

_OPERATORS_FIRST = (
    "The first second factor of an operator is made on the command line: "
    "bin/metaphon user operator NAME. Nothing was changed."
)


@require_POST
def begin_second(request: HttpRequest) -> HttpResponse:
    """Show what an authenticator needs; the one before counts until the new one's first code."""
    user = require_credentials(request)
    if user.is_staff and not user_has_device(user):
        raise InputError(_OPERATORS_FIRST)
    Authenticator.objects.filter(user=user, confirmed=False).delete()
    device = Authenticator.create_for(user, confirmed=False)
    return show_account(request, device=device, **_to_scan(device))


def _to_scan(device: Authenticator) -> dict[str, str]:
    code = segno.make(device.config_url, error="m")
    # without a prefix of styles, which the page's policy would refuse
    picture = code.svg_inline(scale=4, border=3, dark="#000", light="#fff", omitsize=False)
    secret = device.secret_base32
    return {"picture": picture, "secret": " ".join(secret[n : n + 4] for n in range(0, 40, 4))}


@require_POST
def confirm_second(request: HttpRequest) -> HttpResponse:
    """The first code: from now on one is asked for at each sign-in."""
    user: Any = request.user
    device = Authenticator.objects.filter(user=user, confirmed=False).first()
    if device is None:
        raise InputError("There is nothing to confirm; set the second factor up anew.")
    if not device.verify_token("".join(request.POST.get("code", "").split())):
        refused = "This code is not right now; wait for the next one and type it."
        return show_account(request, device=device, refused=refused, **_to_scan(device))
    with transaction.atomic():
        Authenticator.objects.filter(user=user, confirmed=True).delete()
        device.confirmed = True
        device.save(update_fields=["confirmed"])
        _, codes = SpareCodes.create_for(user)
        end_what_credentials_began(user, request)
    if user.is_verified():  # by the one before, which set this one up
        mark_verified(request, device)
    record_event(AuditEntry.Kind.SECOND_FACTOR_ON)
    return show_account(request, codes=codes)


@require_POST
def drop_second(request: HttpRequest) -> HttpResponse:
    """Sign in by password alone again."""
    user = require_credentials(request)
    remove_second_factor(user)
    end_what_credentials_began(user, request)
    record_event(AuditEntry.Kind.SECOND_FACTOR_OFF)
    return show_account(request, said="From now on name and password are enough.")


def remove_second_factor(user: Any) -> None:
    """Take the authenticator and the spare codes of somebody away."""
    Authenticator.objects.filter(user=user).delete()
    SpareCodes.objects.filter(user=user).delete()
