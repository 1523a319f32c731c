"""Letting somebody in who may have no account yet."""

from django.conf import settings
from django.db import models
from django.db.models import Q
from django.utils.timezone import now

from metaphon.web.mixes.models import Member, Mix


class Invitation(models.Model):
    """A link by which one person becomes a member of a mix; only its digest is kept."""

    mix = models.ForeignKey(Mix, models.CASCADE, related_name="invitations")
    role = models.CharField(max_length=8, choices=Member.Role)
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
