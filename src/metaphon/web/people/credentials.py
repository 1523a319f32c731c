"""One rule for all credentials: a change asks for the present ones, and ends what they began.

What they began are sessions, sign-ins that are half done, tokens, links that reset the password,
and connections for listening, which look after their session themselves.
"""

from typing import Any

from django.contrib.auth import authenticate
from django.http import HttpRequest
from django.utils.crypto import salted_hmac
from django_otp import devices_for_user, match_token, user_has_device

from metaphon.core.errors import InputError
from metaphon.web.mixes.models import AccessToken
from metaphon.web.people.models import SessionRecord
from metaphon.web.people.sessions import end_sessions

WRONG_PASSWORD = "Your password is not right; type it again. Nothing was changed."
WRONG_CODE = (
    "This code is not right now; wait for the next one of your authenticator, or type a spare "
    "code. Nothing was changed."
)


def require_credentials(request: HttpRequest) -> Any:
    """The person, who has just typed the password, and a code where a second factor is on.

    Wrong passwords count as wrong sign-ins do, and wrong codes by the authenticator itself.
    Raises InputError where one is wrong.
    """
    user: Any = request.user
    password = request.POST.get("password", "")
    if authenticate(request, username=user.get_username(), password=password) is None:
        raise InputError(WRONG_PASSWORD)
    code = "".join(request.POST.get("code", "").split())
    if user_has_device(user) and match_token(user, code) is None:
        raise InputError(WRONG_CODE)
    return user


def end_what_credentials_began(user: Any, request: HttpRequest | None = None) -> None:
    """End all sessions but that of the request, and all tokens."""
    kept = request.session.session_key if request is not None else None
    end_sessions(SessionRecord.objects.filter(user=user).exclude(session_key=kept or ""))
    AccessToken.objects.filter(user=user).delete()


def credentials_digest(user: Any) -> str:
    """A text that is another one as soon as the password or a second factor is another one."""
    devices = [device.persistent_id for device in devices_for_user(user)]
    return salted_hmac("credentials", f"{user.password} {devices}", algorithm="sha256").hexdigest()
