"""What is one's own: the name shown, the password, the second factor, and leaving for good."""

from typing import Any

import segno
from django.conf import settings
from django.contrib.auth import get_user_model, logout, update_session_auth_hash
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.core.validators import validate_email
from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render, resolve_url
from django.views.decorators.http import require_POST
from django_otp import user_has_device
from django_otp.plugins.otp_static.models import StaticDevice, StaticToken
from django_otp.plugins.otp_totp.models import TOTPDevice

from metaphon.core.errors import InputError
from metaphon.web.mixes.models import AccessToken, Member, Mix
from metaphon.web.mixes.removing import delete_mix

_SPARE_CODES = 10
_LONGEST_NAME = 150


def account(request: HttpRequest) -> HttpResponse:
    """Everything of one's own account."""
    return _shown(request)


def _shown(request: HttpRequest, **more: object) -> HttpResponse:
    user: Any = request.user
    own, shared = _owned_alone(user)
    context = {
        "has_second": user_has_device(user),
        "spare": StaticToken.objects.filter(device__user=user).count(),
        "tokens": AccessToken.objects.filter(user=user),
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
    user = _with_password(request)
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
    return _shown(request, said="The address is kept." if address else "No address is kept.")


@require_POST
def change_password(request: HttpRequest) -> HttpResponse:
    """Another password; everywhere else this person is signed out."""
    user = _with_password(request)
    fresh = request.POST.get("fresh", "")
    check_password_text(fresh, user)
    user.set_password(fresh)
    user.save(update_fields=["password"])
    update_session_auth_hash(request, user)
    return _shown(request, said="The password is changed. Everywhere else you are signed out.")


def check_password_text(text: str, user: Any = None) -> None:
    """Raises InputError in one sentence for a password that is too easy."""
    try:
        validate_password(text, user)
    except ValidationError as error:
        raise InputError(f"{' '.join(error.messages)} Choose another.") from None


@require_POST
def begin_second(request: HttpRequest) -> HttpResponse:
    """Show what an authenticator needs; nothing is asked for until its first code was right."""
    user: Any = request.user
    TOTPDevice.objects.filter(user=user, confirmed=False).delete()
    device = TOTPDevice.objects.create(user=user, name="Authenticator", confirmed=False)
    return _shown(request, device=device, **_to_scan(device))


def _to_scan(device: TOTPDevice) -> dict[str, str]:
    code = segno.make(device.config_url, error="m")
    # without a prefix of styles, which the page's policy would refuse
    picture = code.svg_inline(scale=4, border=3, dark="#000", light="#fff", omitsize=False)
    secret = device.config_url.partition("secret=")[2].partition("&")[0]
    return {"picture": picture, "secret": " ".join(secret[n : n + 4] for n in range(0, 40, 4))}


@require_POST
def confirm_second(request: HttpRequest) -> HttpResponse:
    """The first code: from now on one is asked for at each sign-in."""
    user: Any = request.user
    device = TOTPDevice.objects.filter(user=user, confirmed=False).first()
    if device is None:
        raise InputError("There is nothing to confirm; set the second factor up anew.")
    if not device.verify_token("".join(request.POST.get("code", "").split())):
        refused = "This code is not right now; wait for the next one and type it."
        return _shown(request, device=device, refused=refused, **_to_scan(device))
    with transaction.atomic():
        TOTPDevice.objects.filter(user=user, confirmed=True).delete()
        device.confirmed = True
        device.save(update_fields=["confirmed"])
        codes = _spare_codes(user)
    return _shown(request, codes=codes)


def _spare_codes(user: Any) -> list[str]:
    """Fresh codes for a lost authenticator, each of which works once."""
    StaticDevice.objects.filter(user=user).delete()
    device = StaticDevice.objects.create(user=user, name="Spare codes")
    codes = [StaticToken.random_token() for _ in range(_SPARE_CODES)]
    StaticToken.objects.bulk_create([StaticToken(device=device, token=code) for code in codes])
    return codes


@require_POST
def drop_second(request: HttpRequest) -> HttpResponse:
    """Sign in by password alone again."""
    user = _with_password(request)
    TOTPDevice.objects.filter(user=user).delete()
    StaticDevice.objects.filter(user=user).delete()
    return _shown(request, said="From now on name and password are enough.")


@require_POST
def remove(request: HttpRequest) -> HttpResponse:
    """Delete the account and what is its own alone."""
    user = _with_password(request)
    own, shared = _owned_alone(user)
    if shared:
        names = ", ".join(mix.title for mix in shared)
        raise InputError(
            f"Others work in {names}, and you alone own it; make one of them owner, or delete it."
        )
    for mix in own:
        delete_mix(mix)
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


def _with_password(request: HttpRequest) -> Any:
    """The person, who has just typed the password. Raises InputError where it is wrong."""
    user: Any = request.user
    if not user.check_password(request.POST.get("password", "")):
        raise InputError("Your password is not right; type it again. Nothing was changed.")
    return user
