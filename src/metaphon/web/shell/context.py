"""What every page knows."""

from functools import partial
from typing import Any

from django.conf import settings
from django.http import HttpRequest

from metaphon.web.shell.keys import KEYS
from metaphon.web.shell.workspaces import WORKSPACES


def shell(request: HttpRequest) -> dict[str, object]:
    """The workspaces that exist, which one is open, and the theme chosen."""
    match = request.resolver_match
    name = match.namespace if match else ""
    return {
        "workspaces": WORKSPACES,
        "workspace": name,
        "current": next((one for one in WORKSPACES if one.name == name), None),
        "keys": KEYS,
        "listening": settings.LISTENING,
        "has_new_places": partial(_has_new_places, request),
        "theme": "day" if request.COOKIES.get("theme") == "day" else "night",
    }


def _has_new_places(request: HttpRequest) -> bool:
    """Whether this person has signed in elsewhere from a place that is new."""
    user: Any = request.user
    elsewhere = user.session_records.exclude(session_key=request.session.session_key or "")
    return bool(elsewhere.filter(is_new_place=True).exists())
