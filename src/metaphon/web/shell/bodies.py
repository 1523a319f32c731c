"""What a request may bring with it, held before it is read: by its address, and by who sends it.

Requests are spooled to disk as they come, before anybody asks who is there; this stands before it.
"""

import asyncio
import time
from collections.abc import Awaitable, Callable, MutableMapping
from http.cookies import CookieError, SimpleCookie
from importlib import import_module
from typing import Any

from channels.db import database_sync_to_async
from django.conf import settings
from django.contrib.auth import SESSION_KEY
from django.urls import Resolver404, resolve

from metaphon.web.shell.faults import passing
from metaphon.web.shell.fragments import View

Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]
App = Callable[[Any, Any, Any], Awaitable[None]]

MEGABYTE = 1 << 20
STRANGER_BYTES = 1 << 16  # a name and a password are less
USUAL_BYTES = 4 * MEGABYTE  # a long command
_PATIENCE_S = 30.0  # between pieces, and for a whole body beside what its length needs
_LEAST_BYTES_A_SECOND = 1 << 14

WhoIs = Callable[[dict[str, str]], bool]


def takes(megabytes: int) -> Callable[[View], View]:
    """Declare how much a view takes, where that is more than usual."""

    def declared(view: View) -> View:
        view.most_bytes = megabytes * MEGABYTE  # type: ignore[attr-defined]
        return view

    return declared


class Bodies:
    """Refuses what is too large or too slow while it is being sent, in one sentence.

    Parameters
    ----------
    app
        What answers the request otherwise.
    is_known
        Tells by the headers of a request whether it carries a token that somebody signs in by.
    """

    def __init__(self, app: App, is_known: WhoIs) -> None:
        self._app = app
        self._is_known = is_known

    async def __call__(self, scope: Message, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        headers = {
            name.decode("latin1"): value.decode("latin1") for name, value in scope["headers"]
        }
        body = _Body(receive)
        answered = False

        async def passing(message: Message) -> None:
            nonlocal answered
            answered = True
            await send(message)

        try:
            body.most_bytes = await self._most_bytes(scope["path"], headers)
            await self._app(scope, body.receive, passing)
        except _Refused as refused:
            if not answered:
                await _say(send, headers, refused)

    async def _most_bytes(self, path: str, headers: dict[str, str]) -> int:
        """How much this request may bring. Raises _Refused where its length says more."""
        length = headers.get("content-length", "")
        if length.isdecimal():
            declared = int(length[:18])
        else:
            declared = STRANGER_BYTES + 1 if "transfer-encoding" in headers else 0
        if declared <= STRANGER_BYTES:
            return STRANGER_BYTES
        if not await database_sync_to_async(self._signed_in)(headers):
            raise _Refused(403, "Sign in before you send something as large as this.")
        most = _most_of(path)
        if declared > most:
            raise _too_large(most)
        return most

    def _signed_in(self, headers: dict[str, str]) -> bool:
        try:
            cookies = SimpleCookie(headers.get("cookie", ""))
        except CookieError:
            return False
        cookie = cookies.get(settings.SESSION_COOKIE_NAME)
        if cookie:
            engine = import_module(settings.SESSION_ENGINE)
            if SESSION_KEY in engine.SessionStore(cookie.value):
                return True
        return self._is_known(headers)


class _Refused(Exception):
    def __init__(self, status: int, message: str) -> None:
        super().__init__(message)
        self.status = status


def _too_large(most: int) -> _Refused:
    return _Refused(
        413,
        f"This is larger than the {most // MEGABYTE} MB that may be sent here; choose something "
        "smaller.",
    )


def _most_of(path: str) -> int:
    try:
        return int(getattr(resolve(path).func, "most_bytes", USUAL_BYTES))
    except Resolver404:
        return STRANGER_BYTES


class _Body:
    """A body on its way, counted and timed."""

    def __init__(self, receive: Receive) -> None:
        self._receive = receive
        self._bytes = 0
        self._ended = False
        self._began = time.monotonic()
        self.most_bytes = STRANGER_BYTES

    async def receive(self) -> Message:
        if self._ended:  # what follows is that the other side has gone, however long that takes
            return await self._receive()
        allowed_s = _PATIENCE_S + self._bytes / _LEAST_BYTES_A_SECOND
        left_s = min(_PATIENCE_S, self._began + allowed_s - time.monotonic())
        try:
            message = await asyncio.wait_for(self._receive(), max(left_s, 0.0))
        except TimeoutError:
            raise _Refused(408, "This was sent too slowly; send it again.") from None
        self._bytes += len(message.get("body", b""))
        self._ended = not message.get("more_body", False)
        if self._bytes > self.most_bytes:
            raise _too_large(self.most_bytes)
        return message


async def _say(send: Send, headers: dict[str, str], refused: _Refused) -> None:
    message = str(refused)
    answer = [(b"content-type", b"text/plain; charset=utf-8")]
    if "hx-request" in headers:
        passed = passing(message, refused.status)
        answer += [(n.lower().encode(), passed[n].encode()) for n in ("HX-Reswap", "HX-Trigger")]
    await send({"type": "http.response.start", "status": refused.status, "headers": answer})
    await send({"type": "http.response.body", "body": message.encode()})
