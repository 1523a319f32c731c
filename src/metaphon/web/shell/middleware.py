"""Turns what is meant for the person at the desk into one sentence on the screen, never a
traceback.
"""

from collections.abc import Callable

from django.core.exceptions import PermissionDenied
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from metaphon.core.errors import DISK_FULL, InputError, StaleEdit, disk_is_full
from metaphon.web.shell.faults import passing
from metaphon.web.shell.posted import UNREADABLE, holds_nul


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
        return said(request, UNREADABLE, 422) if holds_nul(sent) else None

    def process_exception(self, request: HttpRequest, error: Exception) -> HttpResponse | None:
        if isinstance(error, StaleEdit):
            return said(request, str(error), 409)
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
