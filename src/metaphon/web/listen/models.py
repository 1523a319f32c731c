"""What people keep for listening.

Their presets, heads and headphones, and the references of a mix.
"""

from django.conf import settings
from django.db import models
from django.db.models import Q

from metaphon.web.mixes.models import AudioFile, Mix


class Preset(models.Model):
    """Monitor settings that somebody keeps under a name."""

    user = models.ForeignKey(
        settings.AUTH_USER_MODEL, models.CASCADE, related_name="monitor_presets"
    )
    name = models.CharField(max_length=120)
    monitor = models.JSONField()

    class Meta:
        ordering = ["name"]
        constraints = [models.UniqueConstraint(fields=["user", "name"], name="monitor_preset_once")]


def user_file_path(file: "UserFile", name: str) -> str:
    return f"people/{file.user_id}/{file.kind}/{name}"


class UserFile(models.Model):
    """A file of somebody's own.

    A measured head (SOFA), or the response of headphones (CSV or SOFA).
    """

    class Kind(models.TextChoices):
        HEAD = "head", "Measured head"
        HEADPHONES = "headphones", "Headphones"

    user = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE, related_name="user_files")
    kind = models.CharField(max_length=10, choices=Kind)
    name = models.CharField(max_length=255)
    file = models.FileField(upload_to=user_file_path, max_length=255)
    bytes = models.PositiveBigIntegerField(default=0)

    class Meta:
        ordering = ["name", "pk"]
        constraints = [
            models.CheckConstraint(
                condition=Q(kind__in=["head", "headphones"]), name="user_file_kind_known"
            )
        ]


class Reference(models.Model):
    """A recording that a mix is compared with; it is no part of the mix."""

    mix = models.ForeignKey(Mix, models.CASCADE, related_name="references")
    audio = models.OneToOneField(AudioFile, models.CASCADE, related_name="reference")

    class Meta:
        ordering = ["pk"]
