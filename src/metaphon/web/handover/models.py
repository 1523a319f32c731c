"""What people keep for Handover: settings by a name."""

from django.conf import settings
from django.db import models


class Preset(models.Model):
    """What somebody asks for again and again; `asked` is a `core.document.handover.Handover`."""

    user = models.ForeignKey(
        settings.AUTH_USER_MODEL, models.CASCADE, related_name="handover_presets"
    )
    name = models.CharField(max_length=80)
    asked = models.JSONField()

    class Meta:
        ordering = ["name"]
        constraints = [
            models.UniqueConstraint(fields=["user", "name"], name="handover_preset_once")
        ]


class Wish(models.Model):
    """What somebody last asked of a mix, kept as they choose."""

    user = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE, related_name="+")
    mix = models.ForeignKey("mixes.Mix", models.CASCADE, related_name="+")
    asked = models.JSONField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["user", "mix"], name="handover_wish_once")]
