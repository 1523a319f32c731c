"""What connections that stay open have in common."""

from typing import Any

from django.contrib.auth import get_user
from django.http import HttpRequest


def still_signed_in(scope: Any, user: Any) -> bool:
    """Whether the person of a connection is signed in by its session as that is kept now."""
    request = HttpRequest()
    request.session = type(scope["session"]._wrapped)(scope["session"].session_key)
    return bool(get_user(request).pk == user.pk)
