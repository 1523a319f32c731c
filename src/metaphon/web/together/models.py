"""What people say about a mix, and who is looking at it."""

from django.conf import settings
from django.db import models
from django.db.models import F, Q

from metaphon.web.jobs.models import Render
from metaphon.web.mixes.models import Mix

MOST_WORDS = 2000


class Remark(models.Model):
    """Something to be said of a place, a span, a track or a handover.

    `revision` is the state of the mix that it was made on. Without `start_s` it is of the whole
    mix, without `end_s` of one moment; `strip` is the id of a track or bus, or empty.
    """

    mix = models.ForeignKey(Mix, models.CASCADE, related_name="remarks")
    user = models.ForeignKey(
        settings.AUTH_USER_MODEL, models.SET_NULL, null=True, related_name="remarks"
    )
    text = models.CharField(max_length=MOST_WORDS)
    start_s = models.FloatField(null=True)
    end_s = models.FloatField(null=True)
    strip = models.CharField(max_length=64, blank=True)
    render = models.ForeignKey(Render, models.SET_NULL, null=True, related_name="remarks")
    revision = models.PositiveIntegerField()
    resolved_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, models.SET_NULL, null=True, related_name="+"
    )
    resolved_at = models.DateTimeField(null=True)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = [F("start_s").asc(nulls_first=True), "pk"]
        constraints = [
            models.CheckConstraint(
                condition=Q(end_s=None) | Q(start_s__lt=F("end_s")), name="remark_ends_after_start"
            )
        ]

    @property
    def is_resolved(self) -> bool:
        """Whether somebody has said that it is dealt with."""
        return self.resolved_at is not None


class Answer(models.Model):
    """What somebody says to a remark."""

    remark = models.ForeignKey(Remark, models.CASCADE, related_name="answers")
    user = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True, related_name="+")
    text = models.CharField(max_length=MOST_WORDS)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["pk"]


class Presence(models.Model):
    """An open page of a mix: whose, and what it shows. Taken away when it closes."""

    mix = models.ForeignKey(Mix, models.CASCADE, related_name="presences")
    user = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE, related_name="presences")
    place = models.CharField(max_length=40, blank=True)  # the title of a workspace
    seen_at = models.DateTimeField()
