"""Passwords are hashed a few at a time, and with no connection to the database held meanwhile.

A hash takes a core for a quarter of a second by design. Without a bound, many sign-ins at once, by
anybody, would take all cores, and all connections while they wait for one.
"""

import os
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache
from typing import Any

from django.contrib.auth import get_user_model
from django.contrib.auth.backends import ModelBackend
from django.contrib.auth.hashers import check_password, make_password
from django.db import connection
from django.http import HttpRequest

from metaphon.core.errors import InputError

_MOST_WAITING = 100
_PATIENCE_S = 20.0
RETRY_AFTER_S = 10


class TooManySignIns(InputError):
    """So many passwords are being checked that this one has to come again."""

    def __init__(self) -> None:
        super().__init__("Many people are signing in at once; try again in ten seconds.")


class _Turns:
    """Lets in as many at once as there are places; the others wait, up to a number and a time."""

    def __init__(self, places: int) -> None:
        self._places = threading.Semaphore(places)
        self._lock = threading.Lock()
        self._waiting = 0

    @contextmanager
    def turn(self) -> Iterator[None]:
        with self._lock:
            if self._waiting >= _MOST_WAITING:
                raise TooManySignIns
            self._waiting += 1
        try:
            is_in = self._places.acquire(timeout=_PATIENCE_S)
        finally:
            with self._lock:
                self._waiting -= 1
        if not is_in:
            raise TooManySignIns
        try:
            yield
        finally:
            self._places.release()


# who is signed in already does not wait behind those who are not
_of_strangers = _Turns(max((os.cpu_count() or 1) // 2, 1))
_of_signed_in = _Turns(1)


class PooledHashing(ModelBackend):
    """Django's own way of signing in, its hashing in turn."""

    def authenticate(
        self,
        request: HttpRequest | None,
        username: str | None = None,
        password: str | None = None,
        **_: Any,
    ) -> Any:
        """The person by name and password, or None. Raises TooManySignIns."""
        if username is None or password is None:
            return None
        user = get_user_model().objects.filter(username=username).first()
        signed_in = request is not None and request.user.is_authenticated
        is_right = check_in_turn(password, user.password if user else None, signed_in=signed_in)
        return user if is_right and self.user_can_authenticate(user) else None


def check_in_turn(password: str, encoded: str | None, *, signed_in: bool = False) -> bool:
    """Whether a password is right; where there is none to compare with it takes as long.

    Raises TooManySignIns.
    """
    if not connection.in_atomic_block:
        connection.close()  # goes back to the pool; the next query takes one again
    with (_of_signed_in if signed_in else _of_strangers).turn():
        return check_password(password, encoded or _password_of_nobody())


@cache
def _password_of_nobody() -> str:
    return make_password("nobody")
