"""Turns what is meant for the person at the desk into one sentence on the screen, never a
traceback.
"""

from collections.abc import Callable
from typing import Any

from axes.helpers import get_cool_off
from django.core.exceptions import PermissionDenied
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from metaphon.core.errors import DISK_FULL, InputError, StaleEdit, disk_is_full
from metaphon.web.shell.faults import passing
from metaphon.web.shell.password_pool import RETRY_AFTER_S, TooManySignIns
from metaphon.web.shell.posted import UNREADABLE, holds_control


class PlainWords:
    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self._get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        return self._get_response(request)

    def process_view(
        self, request: HttpRequest, view: object, arguments: object, named: dict[str, object]
    ) -> HttpResponse | None:
        sent = [*request.GET.values(), *map(str, named.values())]
        if request.method == "POST":
            sent += request.POST.values()
            files: Any = request.FILES
            sent += [str(file.name) for file in files.values()]
        return said(request, UNREADABLE, 422) if holds_control(sent) else None

    def process_exception(self, request: HttpRequest, error: Exception) -> HttpResponse | None:
        if isinstance(error, StaleEdit):
            return said(request, str(error), 409)
        if isinstance(error, TooManySignIns):
            return too_often(request, str(error), RETRY_AFTER_S)
        if isinstance(error, InputError):
            return said(request, str(error), 422)
        if isinstance(error, PermissionDenied):
            return said(request, str(error) or "You may not do this.", 403)
        if disk_is_full(error):
            return said(request, DISK_FULL, 507)
        return None


def said(request: HttpRequest, message: str, status: int) -> HttpResponse:
    """The sentence, as a passing message where htmx asked and as a page otherwise."""
    if not request.headers.get("HX-Request"):
        return render(request, "shell/plain_words.html", {"message": message}, status=status)
    return passing(message, status)


def too_often(
    request: HttpRequest, message: str, retry_after_s: int, status: int = 503
) -> HttpResponse:
    """The sentence, with the time after which it may be tried again (RFC 9110, Retry-After)."""
    response = said(request, message, status)
    response["Retry-After"] = str(retry_after_s)
    return response


def locked_out(request: HttpRequest, *_: object) -> HttpResponse:
    """The answer to wrong passwords that have become too many (axes)."""
    wait_s = int(get_cool_off(request).total_seconds())
    message = "Too many attempts; wait a quarter of an hour and try again."
    return too_often(request, message, wait_s, status=429)


class PrivatePages:
    """Keeps what is somebody's own out of every cache between here and their browser, and in it.

    Styles, scripts and pictures that ship are answered before this.
    """

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self._get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        response = self._get_response(request)
        if not response.has_header("Cache-Control"):
            response["Cache-Control"] = "private, no-store"
        return response
