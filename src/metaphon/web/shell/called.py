"""What people are called on the screen."""

from typing import Any


def called(user: Any) -> str:
    """The name that somebody wants to be seen by; who has left is somebody."""
    return (user.first_name or user.get_username()) if user else "Somebody"
