"""Posting to an address that somebody has given, and to nothing inside the network of this one."""

import http.client
import ipaddress
import socket
import ssl
from urllib.parse import SplitResult, urlsplit

from django.conf import settings

from metaphon.core.errors import InputError

_PATIENCE_S = 10.0
_LONGEST = 1000


class NotTaken(Exception):
    """The other side does not take what is sent; says why."""


def checked(text: str) -> str:
    """An address that may be posted to. Raises InputError in one sentence for another."""
    try:
        _machine(_parts(text))
    except NotTaken as error:
        raise InputError(f"{error} Give one such as https://studio.example/events.") from None
    return text


def post(url: str, body: bytes, headers: dict[str, str]) -> None:
    """Post a body. Raises NotTaken where it is not answered with a status of 200 to 299.

    Nothing is followed elsewhere, and what is connected to is what was looked at.
    """
    parts = _parts(url)
    machine = _machine(parts)
    connection = _Straight(parts, machine)
    try:
        path = parts.path or "/"
        connection.request("POST", f"{path}?{parts.query}" if parts.query else path, body, headers)
        status = connection.getresponse().status
    except (OSError, http.client.HTTPException) as error:
        raise NotTaken(f"It does not answer ({_why(error)}).") from error
    finally:
        connection.close()
    if not 200 <= status < 300:
        raise NotTaken(f"It answers {status}.")


class _Straight(http.client.HTTPConnection):
    """A connection to the very machine that was looked at, whatever its name leads to by now."""

    def __init__(self, parts: SplitResult, machine: str) -> None:
        secure = parts.scheme == "https"
        port = parts.port or (443 if secure else 80)
        super().__init__(str(parts.hostname), port, timeout=_PATIENCE_S)
        self._machine, self._secure = machine, secure

    def connect(self) -> None:
        self.sock = socket.create_connection((self._machine, self.port), _PATIENCE_S)
        if self._secure:
            context = ssl.create_default_context()
            self.sock = context.wrap_socket(self.sock, server_hostname=self.host)


def _parts(text: str) -> SplitResult:
    try:
        parts = urlsplit(text)
        port = parts.port  # raises ValueError for what is none
    except ValueError:
        raise NotTaken("This is no address.") from None
    allowed = ("https", "http") if settings.EVENTS_INSIDE else ("https",)
    strange = parts.username or parts.fragment or port == 0 or len(text) > _LONGEST
    if parts.scheme not in allowed or not parts.hostname or strange:
        raise NotTaken("This is no address that can be told.")
    if not text.isascii() or not text.isprintable() or " " in text:
        raise NotTaken("This is no address that can be told.")
    return parts


def _machine(parts: SplitResult) -> str:
    """The machine behind a name, where it is one that may be spoken to."""
    try:
        found = socket.getaddrinfo(parts.hostname, parts.port or 443, type=socket.SOCK_STREAM)
    except (OSError, UnicodeError):
        raise NotTaken(f"{parts.hostname} is not found.") from None
    machines = [str(one[4][0]) for one in found]
    inside = [one for one in machines if not ipaddress.ip_address(one.split("%")[0]).is_global]
    if inside and not settings.EVENTS_INSIDE:
        raise NotTaken(f"{parts.hostname} lies inside this network, where nothing is told.")
    return machines[0]


def _why(error: Exception) -> str:
    match error:
        case TimeoutError():
            return "too slow"
        case ssl.SSLError():
            return "its certificate is not good"
        case ConnectionRefusedError():
            return "nobody is there"
        case _:
            return "the connection broke off"
