"""What every page knows."""

from django.conf import settings
from django.http import HttpRequest

from metaphon.web.shell.keys import KEYS
from metaphon.web.shell.workspaces import WORKSPACES


def shell(request: HttpRequest) -> dict[str, object]:
    """The workspaces that exist, which one is open, and the theme chosen."""
    match = request.resolver_match
    return {
        "workspaces": WORKSPACES,
        "workspace": match.namespace if match else "",
        "keys": KEYS,
        "listening": settings.LISTENING,
        "theme": "day" if request.COOKIES.get("theme") == "day" else "night",
    }
