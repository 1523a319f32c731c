"""Secrets: texts shown once and kept only as a digest, and those that are kept encrypted.

Their key is derived from METAPHON_SECRET_KEY, which is in no database and in no backup.
"""

import base64
import hashlib
import hmac
import secrets
from functools import cache

from cryptography.fernet import Fernet, InvalidToken, MultiFernet
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.kdf.hkdf import HKDF
from django.conf import settings

from metaphon.core.errors import InputError

_BYTES = 32


def new_secret() -> tuple[str, str]:
    """A text that nobody guesses, and its digest."""
    text = secrets.token_urlsafe(_BYTES)
    return text, digest_of(text)


def digest_of(text: str) -> str:
    """What is kept of a text, and found again by it."""
    return hashlib.sha256(text.encode()).hexdigest()


def keyed_digest_of(text: str) -> str:
    """The digest of a text too short for a plain one: without the key it cannot be searched for."""
    return hmac.new(
        _derived_key(settings.SECRET_KEY, b"digest"), text.encode(), "sha256"
    ).hexdigest()


def encrypt(text: str) -> str:
    """The text encrypted and authenticated (Fernet: AES-128-CBC with HMAC-SHA256)."""
    return _cipher().encrypt(text.encode()).decode()


def decrypt(encrypted: str) -> str:
    """The text that was encrypted. Raises InputError where this installation has another key."""
    try:
        return _cipher().decrypt(encrypted.encode()).decode()
    except InvalidToken:
        raise InputError(
            "A secret of this account was kept under another METAPHON_SECRET_KEY; ask the operator."
        ) from None


@cache
def _cipher() -> MultiFernet:
    secret_keys = [settings.SECRET_KEY, *settings.SECRET_KEY_FALLBACKS]
    derived = [_derived_key(secret_key, b"encryption") for secret_key in secret_keys]
    return MultiFernet([Fernet(base64.urlsafe_b64encode(key)) for key in derived])


def _derived_key(secret_key: str, purpose: bytes) -> bytes:
    """A key of 32 bytes for one purpose (HKDF, RFC 5869)."""
    derivation = HKDF(algorithm=SHA256(), length=32, salt=None, info=b"metaphon " + purpose)
    return derivation.derive(secret_key.encode())
