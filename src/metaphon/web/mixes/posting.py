"""Posting to an address that somebody has given, and to nothing inside the network of this one."""

import http.client
import ipaddress
import socket
import ssl
import threading
from contextlib import suppress
from urllib.parse import SplitResult, urlsplit

from django.conf import settings

from metaphon.core.errors import InputError

_PATIENCE_S = 10.0  # for all of a call
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
    hanging_up = threading.Timer(_PATIENCE_S, connection.hang_up)
    hanging_up.start()
    try:
        path = parts.path or "/"
        connection.request("POST", f"{path}?{parts.query}" if parts.query else path, body, headers)
        status = connection.getresponse().status
    except (OSError, ValueError, AttributeError, http.client.HTTPException) as error:
        why = "too slow" if connection.is_hung_up else _why(error)
        raise NotTaken(f"It does not answer ({why}).") from error
    finally:
        hanging_up.cancel()
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
        self.is_hung_up = False

    def connect(self) -> None:
        self.sock = socket.create_connection((self._machine, self.port), _PATIENCE_S)
        if self._secure:
            context = ssl.create_default_context()
            self.sock = context.wrap_socket(self.sock, server_hostname=self.host)

    def hang_up(self) -> None:
        """End it from another thread; a time for each piece of an answer is none for all of it."""
        self.is_hung_up = True
        if self.sock is not None:
            with suppress(OSError):
                self.sock.shutdown(socket.SHUT_RDWR)


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
    if not settings.EVENTS_INSIDE and not all(map(is_outside, machines)):
        raise NotTaken(f"{parts.hostname} lies inside this network, where nothing is told.")
    return machines[0]


def is_outside(machine: str) -> bool:
    """Whether an address is one of the public internet, and stays so wherever it is carried.

    An IPv6 address may carry an IPv4 one (mapped, compatible, translated by NAT64 after RFC 6052,
    6to4, Teredo); then each that it carries counts too.
    """
    address = ipaddress.ip_address(machine.split("%")[0])
    if isinstance(address, ipaddress.IPv4Address):
        return _is_public(address)
    carried = [address.ipv4_mapped, address.sixtofour, *(address.teredo or ())]
    if address in _COMPATIBLE or any(address in network for network in _NAT64):
        carried.append(ipaddress.IPv4Address(int(address) & 0xFFFF_FFFF))
    found = [one for one in carried if one is not None]
    if address.ipv4_mapped is not None or address in _NAT64[0]:
        return all(map(_is_public, found))  # itself of no network of its own
    return _is_public(address) and all(map(_is_public, found))


def _is_public(address: ipaddress.IPv4Address | ipaddress.IPv6Address) -> bool:
    is_old_site = isinstance(address, ipaddress.IPv6Address) and address.is_site_local
    is_special = address.is_multicast or address.is_reserved or address.is_unspecified
    return address.is_global and not is_special and not is_old_site


_COMPATIBLE = ipaddress.ip_network("::/96")
_NAT64 = (ipaddress.ip_network("64:ff9b::/96"), ipaddress.ip_network("64:ff9b:1::/48"))


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
