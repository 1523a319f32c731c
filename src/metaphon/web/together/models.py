"""What people say about a mix, and who is looking at it."""

from django.conf import settings
from django.db import models
from django.db.models import F, Q
from django.utils.timezone import now

from metaphon.web.jobs.models import Render
from metaphon.web.mixes.models import Mix
from metaphon.web.shell.called import called

MOST_WORDS = 2000
MOST_WRONG = 20


class Remark(models.Model):
    """Something to be said of a place, a span, a track or a handover.

    `revision` is the state of the mix that it was made on. Without `start_s` it is of the whole
    mix, without `end_s` of one moment; `strip` is the id of a track or bus, or empty.
    """

    mix = models.ForeignKey(Mix, models.CASCADE, related_name="remarks")
    user = models.ForeignKey(
        settings.AUTH_USER_MODEL, models.SET_NULL, null=True, related_name="remarks"
    )
    guest = models.CharField(max_length=120, blank=True)  # who made it by a link, as they say
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
    def author(self) -> str:
        """What whoever made it is called."""
        return f"{self.guest}, by a link" if self.guest else called(self.user)

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


class Decision(models.Model):
    """What somebody says of a handover as a whole: approved, or sent back and why."""

    render = models.ForeignKey(Render, models.CASCADE, related_name="decisions")
    user = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True, related_name="+")
    approved = models.BooleanField()
    text = models.CharField(max_length=MOST_WORDS, blank=True)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["pk"]


class Share(models.Model):
    """A link by which somebody without an account listens; its digest is kept.

    To a handover, or without `render` to the newest one of the mix, whichever that is; where it is
    `live`, to the mix itself as it is at each moment. `password` is hashed, or empty.
    """

    mix = models.ForeignKey(Mix, models.CASCADE, related_name="shares")
    render = models.ForeignKey(Render, models.CASCADE, null=True, related_name="shares")
    live = models.BooleanField(default=False)
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE, related_name="+")
    name = models.CharField(max_length=120, blank=True)  # for whom it is
    digest = models.CharField(max_length=64, unique=True)
    password = models.CharField(max_length=128, blank=True)
    remarks = models.BooleanField(default=False)  # whether its holder may make some
    downloads = models.BooleanField(default=False)  # whether its holder may keep the files
    opened = models.PositiveIntegerField(default=0)
    wrong = models.PositiveIntegerField(default=0)  # passwords that were, since one was right
    last_at = models.DateTimeField(null=True)
    ends_at = models.DateTimeField()
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["pk"]
        constraints = [
            models.CheckConstraint(
                condition=Q(live=False) | Q(render=None), name="share_live_or_of_a_handover"
            )
        ]

    @property
    def is_open(self) -> bool:
        """Whether it still leads somewhere."""
        return now() < self.ends_at and self.wrong < MOST_WRONG
