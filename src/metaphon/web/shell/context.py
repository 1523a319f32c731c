"""What every page knows."""

from django.conf import settings
from django.http import HttpRequest

from metaphon.web.mixes.permissions import can_edit

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


def editing(request: HttpRequest, mix) -> dict[str, object]:  # type: ignore[no-untyped-def]
    """What the history buttons and every control of a mix need."""
    from metaphon.web.mixes.journal import next_redo, next_undo

    may = can_edit(mix, request.user)
    return {
        "mix": mix,
        "can_edit": may,
        "read_only": not may,
        "undo": next_undo(mix, request.user),
        "redo": next_redo(mix, request.user),
    }
