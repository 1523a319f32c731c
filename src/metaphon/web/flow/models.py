"""What people keep for Flow: chains to begin with."""

from django.conf import settings
from django.db import models


class StartingPoint(models.Model):
    """A chain that somebody keeps, to begin with elsewhere."""

    user = models.ForeignKey(
        settings.AUTH_USER_MODEL, models.CASCADE, related_name="starting_points"
    )
    name = models.CharField(max_length=120)
    chain = models.JSONField()

    class Meta:
        ordering = ["name"]
        constraints = [models.UniqueConstraint(fields=["user", "name"], name="starting_point_once")]
