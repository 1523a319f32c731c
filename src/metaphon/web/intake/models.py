"""Recordings on their way into a mix."""

import shutil
from pathlib import Path

from django.conf import settings
from django.db import models

from metaphon.web.mixes.models import Mix, between
from metaphon.web.storage import ARRIVING, stored

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
    def folder(self) -> str:
        """Where what has arrived of it is stored, piece by piece."""
        return f"{ARRIVING}/{self.key.hex}"

    def take(self, piece: Path) -> None:
        """Store the next piece, in place of one that came without being counted."""
        stored.put_in(f"{self.folder}/{self.offset:016d}", piece)

    def join(self, path: Path) -> None:
        """Put all pieces together at a path of this machine."""
        with path.open("wb") as whole:
            for name in self._pieces:
                with stored.open(name) as part:
                    shutil.copyfileobj(part, whole)

    def let_go(self) -> None:
        """Give back the room that its pieces take."""
        for name in self._pieces:
            stored.delete(name)

    @property
    def _pieces(self) -> list[str]:
        return sorted(name for name, _ in stored.below(self.folder))

    def forget(self) -> None:
        """Take it off the list and off the disk."""
        self.let_go()
        self.delete()

    @property
    def can_be_retried(self) -> bool:
        """Whether it was refused, but is still there whole."""
        return self.status == self.Status.FAILED and self.has_pieces

    @property
    def has_pieces(self) -> bool:
        """Whether something of it is here."""
        return bool(self._pieces)

    @property
    def is_open(self) -> bool:
        """Whether something is still to be done with it."""
        return self.status in (self.Status.RECEIVING, self.Status.CHECKING)
