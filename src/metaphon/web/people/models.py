"""Invitations, second factors and the sessions in which somebody is signed in."""

import base64
import secrets
import time
from typing import Any
from urllib.parse import quote, urlencode

from django.conf import settings
from django.db import models
from django.db.models import Q
from django.utils.timezone import now
from django_otp.models import Device, ThrottlingMixin
from django_otp.oath import TOTP

from metaphon.web.mixes.models import Member, Mix
from metaphon.web.shell.secrets import decrypt, encrypt, keyed_digest_of


class Invitation(models.Model):
    """By which one person becomes a member of a mix: a link, kept as a digest, or an offer.

    An offer is for whoever signs in by `username`, and needs no link.
    """

    mix = models.ForeignKey(Mix, models.CASCADE, related_name="invitations")
    role = models.CharField(max_length=8, choices=Member.Role)
    username = models.CharField(max_length=150, blank=True)
    digest = models.CharField(max_length=64, unique=True)
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE, related_name="+")
    used_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, models.SET_NULL, null=True, related_name="+"
    )
    created_at = models.DateTimeField(auto_now_add=True)
    ends_at = models.DateTimeField()
    used_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["pk"]
        constraints = [
            models.CheckConstraint(
                condition=Q(role__in=Member.Role.values), name="invitation_role_known"
            )
        ]

    @property
    def is_open(self) -> bool:
        """Whether it can still be used."""
        return self.used_at is None and now() < self.ends_at


class Authenticator(ThrottlingMixin, Device):  # type: ignore[misc]  # without types
    """A second factor that shows codes by the time (TOTP, RFC 6238); its secret is encrypted.

    A code counts for its half minute and the one before or after it, and once.
    """

    secret = models.TextField()
    last_step = models.BigIntegerField(default=-1)

    STEP_S, _TOLERANCE, _DIGITS = 30, 1, 6

    @classmethod
    def create_for(cls, user: Any, *, confirmed: bool) -> "Authenticator":
        """Make one with a secret of 160 bits, as RFC 4226 recommends."""
        secret = encrypt(base64.b32encode(secrets.token_bytes(20)).decode())
        made: Authenticator = cls.objects.create(
            user=user, name="Authenticator", confirmed=confirmed, secret=secret
        )
        return made

    @property
    def secret_base32(self) -> str:
        """The secret as an authenticator is given it (RFC 4648, base 32)."""
        return decrypt(self.secret)

    @property
    def config_url(self) -> str:
        """The address that an authenticator reads from a picture (Key Uri Format)."""
        issuer = quote(settings.OTP_TOTP_ISSUER)
        query = urlencode({"secret": self.secret_base32, "issuer": settings.OTP_TOTP_ISSUER})
        return f"otpauth://totp/{issuer}:{quote(self.user.get_username())}?{query}"

    def verify_token(self, token: str) -> bool:
        """Whether a code is right now; one that was used, or comes too soon, is not."""
        is_allowed, _ = self.verify_is_allowed()
        if not is_allowed:
            return False
        clock = TOTP(base64.b32decode(self.secret_base32), self.STEP_S, 0, self._DIGITS)
        clock.time = time.time()
        is_code = token.isascii() and token.isdecimal() and len(token) == self._DIGITS
        if is_code and clock.verify(int(token), self._TOLERANCE, self.last_step + 1):
            self.last_step = clock.t()
            self.throttle_reset(commit=False)
            self.save()
            return True
        self.throttle_increment(commit=True)
        return False

    def get_throttle_factor(self) -> int:
        """Seconds to wait after the first wrong code; they double with each."""
        return 1


class SpareCodes(ThrottlingMixin, Device):  # type: ignore[misc]  # without types
    """Codes for a lost authenticator, each of which works once; only their digests are kept."""

    digests = models.JSONField(default=list)

    @classmethod
    def create_for(cls, user: Any) -> tuple["SpareCodes", list[str]]:
        """Make ten codes of 80 bits in place of those before; gives them to be shown this once."""
        cls.objects.filter(user=user).delete()
        codes = [base64.b32encode(secrets.token_bytes(10)).decode().lower() for _ in range(10)]
        digests = [keyed_digest_of(code) for code in codes]
        return cls.objects.create(user=user, name="Spare codes", digests=digests), codes

    def verify_token(self, token: str) -> bool:
        """Whether this is one of the codes that are left, which is used up by it."""
        is_allowed, _ = self.verify_is_allowed()
        if not is_allowed:
            return False
        digest = keyed_digest_of(token.lower())
        if digest in self.digests:
            self.digests = [other for other in self.digests if other != digest]
            self.throttle_reset(commit=False)
            self.save()
            return True
        self.throttle_increment(commit=True)
        return False

    def get_throttle_factor(self) -> int:
        """Seconds to wait after the first wrong code; they double with each."""
        return 1


class SessionRecord(models.Model):
    """Where and since when somebody is signed in; one for each session."""

    user = models.ForeignKey(
        settings.AUTH_USER_MODEL, models.CASCADE, related_name="session_records"
    )
    session_key = models.CharField(max_length=40, unique=True)
    address = models.GenericIPAddressField(null=True)
    browser = models.CharField(max_length=60, blank=True)
    began_at = models.DateTimeField(default=now)
    last_at = models.DateTimeField(default=now)
    # from where this person had not signed in before, until they have said that they know of it
    is_new_place = models.BooleanField(default=False)

    class Meta:
        ordering = ["-last_at"]
