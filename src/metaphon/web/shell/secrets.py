"""Texts that open something to whoever has them: shown once, kept only as a digest."""

import hashlib
import secrets

_BYTES = 32


def new_secret() -> tuple[str, str]:
    """A text that nobody guesses, and its digest."""
    text = secrets.token_urlsafe(_BYTES)
    return text, digest_of(text)


def digest_of(text: str) -> str:
    """What is kept of a text, and found again by it."""
    return hashlib.sha256(text.encode()).hexdigest()
