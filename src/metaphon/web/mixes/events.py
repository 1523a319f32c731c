"""What happens to mixes, told to addresses that their people have given.

A message is signed after Standard Webhooks 1.0 (standardwebhooks.com): HMAC-SHA256 of its id, its
time and its body with the secret of the address, in base64.
"""

import base64
import hashlib
import hmac
import json
import secrets
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from django.conf import settings
from django.db import connection, transaction
from django.utils.timezone import now
from procrastinate import RetryStrategy
from procrastinate.contrib.django import app

from metaphon.web.mixes.models import EventAddress, Mix
from metaphon.web.mixes.posting import NotTaken, post
from metaphon.web.shell.secrets import decrypt, encrypt

READY, FAILED = "handover.ready", "handover.failed"
DECIDED, REMARK, TRIED = "handover.decided", "remark.made", "address.tried"
KINDS = {
    READY: "A handover is ready.",
    FAILED: "A handover failed.",
    DECIDED: "A handover was approved or sent back.",
    REMARK: "A remark was made.",
    TRIED: "The address is tried.",
}
_PREFIX = "whsec_"
_TURN_S = 2
_LOCK = 7_301_002  # of PostgreSQL's advisory locks
_TRIES = RetryStrategy(max_attempts=8, exponential_wait=4)  # the last after some six hours


def new_address(user_id: int, url: str) -> str:
    """Keep an address of somebody's; gives the secret that its messages are signed with."""
    secret = _PREFIX + base64.b64encode(secrets.token_bytes(32)).decode()
    EventAddress.objects.create(user_id=user_id, url=url, secret=encrypt(secret))
    return secret


def tell(mix: Mix, kind: str, **data: Any) -> None:
    """Tell all who take part in a mix and have given an address, once what is under way is kept."""
    for address in EventAddress.objects.filter(
        user__in=mix.members.values("user"), user__is_active=True
    ):
        send(address, kind, {"mix": mix.pk, "title": mix.title, "url": _url(mix), **data})


def send(address: EventAddress, kind: str, data: dict[str, Any]) -> None:
    """Send one message to one address, and try again for some hours where it is not taken."""
    body = {"type": kind, "timestamp": now().isoformat(timespec="seconds"), "data": data}
    tell_address.defer(
        address_id=address.pk, message_id=f"msg_{uuid.uuid4().hex}", body=json.dumps(body)
    )


def _url(mix: Mix) -> str:
    return f"{settings.ADDRESSES[0] if settings.ADDRESSES else ''}/mix/{mix.pk}/"


@app.task(name="tell_address", queue="events", retry=_TRIES)
def tell_address(*, address_id: int, message_id: str, body: str) -> None:
    """Send a message; raises NotTaken, after which it is sent again later."""
    row = EventAddress.objects.filter(pk=address_id).first()
    if row is None:
        return
    with _turn_of(row.user_id) as is_free:
        if is_free:
            _post(row, message_id, body)
            return
    again = tell_address.configure(schedule_in={"seconds": _TURN_S})
    again.defer(address_id=address_id, message_id=message_id, body=body)


@contextmanager
def _turn_of(user_id: int) -> Iterator[bool]:
    """Whether nothing else is being sent for somebody, so that no one takes all the senders."""
    with connection.cursor() as cursor:
        cursor.execute("select pg_try_advisory_lock(%s, %s)", [_LOCK, user_id])
        (is_free,) = cursor.fetchone()
        try:
            yield is_free
        finally:
            if is_free:
                cursor.execute("select pg_advisory_unlock(%s, %s)", [_LOCK, user_id])


def _post(row: EventAddress, message_id: str, body: str) -> None:
    at = str(int(now().timestamp()))
    headers = {
        "Content-Type": "application/json",
        "webhook-id": message_id,
        "webhook-timestamp": at,
        "webhook-signature": signature(decrypt(row.secret), message_id, at, body),
    }
    rows = EventAddress.objects.filter(pk=row.pk)
    try:
        post(row.url, body.encode(), headers)
    except NotTaken as error:
        with transaction.atomic():
            rows.update(trouble=str(error)[:200])
        raise
    rows.update(trouble="", told_at=now())


def signature(secret: str, message_id: str, at: str, body: str) -> str:
    """The signature of a message, with the version of the scheme before it."""
    key = base64.b64decode(secret.removeprefix(_PREFIX))
    digest = hmac.new(key, f"{message_id}.{at}.{body}".encode(), hashlib.sha256).digest()
    return f"v1,{base64.b64encode(digest).decode()}"
