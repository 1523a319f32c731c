"""Tokens by which scripts sign in for somebody: shown once, kept only as a digest."""

from datetime import timedelta

from django.http import HttpRequest
from django.utils.timezone import now

from metaphon.web.mixes.models import AccessToken
from metaphon.web.mixes.permissions import User
from metaphon.web.shell.secrets import digest_of, new_secret

_NOTE_EVERY = timedelta(minutes=1)


def new_token(user: User, name: str) -> str:
    """Make a token for somebody; the text is not kept and cannot be shown again."""
    text, digest = new_secret()
    AccessToken.objects.create(user_id=int(user.pk or 0), name=name, digest=digest)
    return text


def user_of(request: HttpRequest) -> User | None:
    """Whose token a request carries (Authorization: Bearer TOKEN).

    None for none or an unknown one.
    """
    return _user_by(request.headers.get("Authorization", ""))


def carries_token(headers: dict[str, str]) -> bool:
    """Whether the headers of a request, their names small, carry the token of somebody."""
    return _user_by(headers.get("authorization", "")) is not None


def _user_by(authorization: str) -> User | None:
    kind, _, text = authorization.partition(" ")
    if kind.lower() != "bearer" or not text:
        return None
    row = (
        AccessToken.objects.filter(digest=digest_of(text.strip()), user__is_active=True)
        .select_related("user")
        .first()
    )
    if row is None:
        return None
    if row.last_at is None or now() - row.last_at > _NOTE_EVERY:
        AccessToken.objects.filter(pk=row.pk).update(last_at=now())
    return row.user
