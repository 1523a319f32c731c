"""What every page knows."""

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
        "theme": "day" if request.COOKIES.get("theme") == "day" else "night",
    }
