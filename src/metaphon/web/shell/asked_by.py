"""Who asked for what a line of the log is about: the person and the address."""

import logging
from collections.abc import Callable
from contextvars import ContextVar

from django.http import HttpRequest, HttpResponse

from metaphon.core.foreign import serving_pages

Answer = Callable[[HttpRequest], HttpResponse]

_asking: ContextVar[HttpRequest | None] = ContextVar("asking", default=None)


def remembered(get_response: Answer) -> Answer:
    """Middleware that remembers the request while it is answered."""

    def answered(request: HttpRequest) -> HttpResponse:
        token = _asking.set(request)
        try:
            with serving_pages():
                return get_response(request)
        finally:
            _asking.reset(token)

    return answered


def current_request() -> HttpRequest | None:
    """The request that is being answered; None where there is none."""
    return _asking.get()


class AskedBy(logging.Filter):
    """Gives each line `person` and `address`; a dash where nobody asked."""

    def filter(self, record: logging.LogRecord) -> bool:
        request = getattr(record, "request", None) or _asking.get()
        meta = getattr(request, "META", {})
        # only who is known already: a line of the log asks no database
        user = getattr(request, "_cached_user", None)
        record.person = user.get_username() if user and user.is_authenticated else "-"
        record.address = meta.get("REMOTE_ADDR") or "-"
        return True
