"""What is said where the program itself fails: a page that needs nothing, not even the database."""

import json
import sys

from django.db import InterfaceError, OperationalError
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import render

from metaphon.core.errors import DISK_FULL, disk_is_full

UNREACHABLE = (
    "The database cannot be reached just now, so nothing was changed; it comes back by itself, "
    "try again in a moment."
)
FAULT = "This went wrong through a fault of the program; it is in the log. Try again."


def fault(request: HttpRequest) -> HttpResponse:
    """The answer where an error was not meant for the person at the desk (Django's handler500)."""
    error = sys.exception()
    if disk_is_full(error):
        return told(request, DISK_FULL, 507)
    if isinstance(error, OperationalError | InterfaceError):
        return told(request, UNREACHABLE, 503)
    return told(request, FAULT, 500)


def told(request: HttpRequest, message: str, status: int) -> HttpResponse:
    """The sentence: as data for a script, as a passing message where htmx asked, else as a page."""
    if request.path.startswith("/api/"):
        return JsonResponse({"message": message}, status=status)
    if not request.headers.get("HX-Request"):
        return render(request, "shell/fault.html", {"message": message}, status=status)
    return passing(message, status)


def passing(message: str, status: int) -> HttpResponse:
    """The sentence as a message that passes over the page, which stays as it is."""
    response = HttpResponse(status=status)
    response["HX-Reswap"] = "none"
    told = {"say": {"message": message, "refused": True}, "mix-changed": status == 409}
    response["HX-Trigger"] = json.dumps(told)
    return response
