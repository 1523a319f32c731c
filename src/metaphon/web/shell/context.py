"""What every page knows."""

from django.conf import settings
from django.http import HttpRequest

WORKSPACES = (
    ("intake", "Intake"),
    ("flow", "Flow"),
    ("field", "Field"),
    ("listen", "Listen"),
    ("handover", "Handover"),
)


def shell(request: HttpRequest) -> dict[str, object]:
    """The workspaces that exist, which one is open, and the theme chosen."""
    match = request.resolver_match
    return {
        "workspaces": [(f"{name}:show", name, title) for name, title in WORKSPACES],
        "workspace": match.namespace if match else "",
        "listen_port": settings.LISTEN_PORT,
        "theme": "day" if request.COOKIES.get("theme") == "day" else "night",
    }
