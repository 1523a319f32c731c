"""Recordings on their way into a mix."""

from pathlib import Path

from django.conf import settings
from django.db import models

from metaphon.web.mixes.models import Mix, between

LARGEST_BYTES = 2**40


class Arrival(models.Model):
    """A recording that is being sent, checked or refused."""

    class Status(models.TextChoices):
        RECEIVING = "receiving", "Being sent"
        CHECKING = "checking", "Checking every sample"
        FAILED = "failed", "Refused"
        DONE = "done", "There"

    user = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE, related_name="arrivals")
    mix = models.ForeignKey(Mix, models.CASCADE, related_name="arrivals")
    key = models.UUIDField(unique=True)
    name = models.CharField(max_length=255)
    length = models.PositiveBigIntegerField()
    offset = models.PositiveBigIntegerField(default=0)
    status = models.CharField(max_length=9, choices=Status, default=Status.RECEIVING)
    progress = models.FloatField(default=0.0)
    track = models.CharField(max_length=120, blank=True)
    message = models.CharField(max_length=1000, blank=True)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["pk"]
        constraints = [between("progress", 0.0, 1.0), between("length", 1, LARGEST_BYTES)]

    @property
    def path(self) -> Path:
        """Where what has arrived of it lies."""
        folder = Path(settings.FILE_UPLOAD_TEMP_DIR or settings.MEDIA_ROOT)
        return folder / f"arriving-{self.key.hex}"

    def forget(self) -> None:
        """Take it off the list and off the disk."""
        self.path.unlink(missing_ok=True)
        self.delete()

    @property
    def is_open(self) -> bool:
        """Whether something is still to be done with it."""
        return self.status in (self.Status.RECEIVING, self.Status.CHECKING)
