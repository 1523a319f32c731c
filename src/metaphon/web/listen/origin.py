"""From which pages sound may be asked for: those of this installation, at their very port."""

from typing import Any
from urllib.parse import urlsplit

from channels.security.websocket import WebsocketDenier
from django.conf import settings

_STANDARD = {"http": 80, "https": 443}


class OwnPages:
    """Refuses a connection that a page of another scheme, host or port has opened."""

    def __init__(self, app: Any) -> None:
        self._app = app

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        headers = dict(scope["headers"])
        origin = headers.get(b"origin", b"").decode("latin1")
        if _own(origin, headers.get(b"host", b"").decode("latin1")):
            await self._app(scope, receive, send)
        else:
            await WebsocketDenier()(scope, receive, send)


def _own(origin: str, host: str) -> bool:
    """Whether an origin is one of the addresses; without any, whether it is where it asks."""
    if settings.ADDRESSES:
        return _parts(origin) in map(_parts, settings.ADDRESSES)
    return urlsplit(origin).netloc == host and urlsplit(origin).hostname in settings.ALLOWED_HOSTS


def _parts(address: str) -> tuple[str, str | None, int | None]:
    try:
        found = urlsplit(address)
        return found.scheme, found.hostname, found.port or _STANDARD.get(found.scheme)
    except ValueError:
        return "", None, None
