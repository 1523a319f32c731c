"""What workers do and what came of it: renders, prints, surveys, reports, spaces."""

from django.conf import settings
from django.db import models

from metaphon.core.document.handover import ADM, ADM_TITLE
from metaphon.core.document.targets import target_named
from metaphon.web.mixes.models import Mix, between


def render_path(file: "RenderFile", name: str) -> str:
    return f"mixes/{file.render.mix_id}/renders/{file.render_id}/{name}"


class Work(models.Model):
    """Something that a worker does for a mix, how far it is, and what came of it."""

    class Status(models.TextChoices):
        WAITING = "waiting", "Waiting"
        RUNNING = "running", "Rendering"
        CANCELLING = "cancelling", "Stopping"
        CANCELLED = "cancelled", "Cancelled"
        FAILED = "failed", "Failed"
        DONE = "done", "Done"

    user = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True)
    status = models.CharField(max_length=10, choices=Status, default=Status.WAITING)
    options = models.JSONField()
    progress = models.FloatField(default=0.0)
    speed_x_realtime = models.FloatField(null=True)
    message = models.CharField(max_length=500, blank=True)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        abstract = True
        ordering = ["-pk"]
        constraints = [between("progress", 0.0, 1.0)]

    @property
    def is_open(self) -> bool:
        return self.status in (self.Status.WAITING, self.Status.RUNNING, self.Status.CANCELLING)

    def ask_to_stop(self) -> None:
        """Take it out of the queue, or have its worker leave off."""
        rows = type(self)._default_manager.filter(pk=self.pk)
        if not rows.filter(status=self.Status.WAITING).update(status=self.Status.CANCELLED):
            rows.filter(status=self.Status.RUNNING).update(status=self.Status.CANCELLING)
        self.refresh_from_db()


class Render(Work):
    mix = models.ForeignKey(Mix, models.CASCADE, related_name="renders")
    revision = models.PositiveIntegerField()
    label = models.CharField(max_length=80, blank=True)
    files_ready = models.PositiveIntegerField(default=0)
    files_wanted = models.PositiveIntegerField(default=0)
    findings = models.JSONField(default=list)


class RenderPart(models.Model):
    """What of a render one worker does at a time; `part` is a `core.engine.making.Part`.

    `outcomes` and `levels` are what came of it: of each of its files, and of the strips of the mix.
    """

    render = models.ForeignKey(Render, models.CASCADE, related_name="parts")
    stage = models.PositiveSmallIntegerField()
    part = models.JSONField()
    done = models.FloatField(default=0.0)
    is_over = models.BooleanField(default=False)
    outcomes = models.JSONField(default=list)
    levels = models.JSONField(null=True)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["pk"]
        constraints = [between("done", 0.0, 1.0)]


class Print(Work):
    """Strips being rendered to new tracks; `options` holds their ids and the span."""

    mix = models.ForeignKey(Mix, models.CASCADE, related_name="prints")


class Report(Work):
    """Something measured of a mix; `options` says of which strip, "" of all.

    `key` tells of which state of the mix.
    """

    key = models.CharField(max_length=64, blank=True)

    class Meta(Work.Meta):
        abstract = True


class FoldDownReport(Report):
    """What folding a mix down loses.

    `figures` has a `core.checks.fold_down_report.Fold` for each way.
    """

    mix = models.ForeignKey(Mix, models.CASCADE, related_name="fold_down_reports")
    figures = models.JSONField(default=list)


class TranslationReport(Report):
    """A mix in every place it will meet; `options` names the strip that has to be understood.

    `figures` is a `core.checks.translation.Translation`.
    """

    mix = models.ForeignKey(Mix, models.CASCADE, related_name="translation_reports")
    figures = models.JSONField(default=dict)


class SpaceSimulation(Work):
    """A space being simulated; `options` holds it. What comes of it are responses."""

    mix = models.ForeignKey(Mix, models.CASCADE, related_name="simulations")


class Survey(models.Model):
    """What the sound of a mix was last found to be.

    The level of every strip, and what the listening rules noticed.
    """

    mix = models.OneToOneField(Mix, models.CASCADE, related_name="survey")
    key = models.CharField(max_length=64)
    levels = models.JSONField(default=dict)
    findings = models.JSONField(default=list)
    pairs = models.JSONField(default=list)  # tracks that carry one sound


class LeftFinding(models.Model):
    """A finding that somebody has decided to leave, and why."""

    mix = models.ForeignKey(Mix, models.CASCADE, related_name="left_findings")
    user = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True)
    rule = models.CharField(max_length=64)
    subject = models.CharField(max_length=64)
    other = models.CharField(max_length=64, blank=True)
    reason = models.CharField(max_length=300)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["pk"]
        constraints = [
            models.UniqueConstraint(
                fields=["mix", "rule", "subject", "other"], name="finding_left_once"
            )
        ]


class RenderFile(models.Model):
    """A delivered file."""

    render = models.ForeignKey(Render, models.CASCADE, related_name="files")
    kind = models.CharField(
        max_length=6,
        choices=[("audio", "audio"), ("json", "JSON"), ("report", "report"), ("xml", "XML")],
    )
    name = models.CharField(max_length=255)
    file = models.FileField(upload_to=render_path, max_length=255)
    target = models.CharField(max_length=1500, blank=True)
    stem = models.CharField(max_length=64, blank=True)
    alternative = models.CharField(max_length=64, blank=True)  # the id of its programme
    bytes = models.PositiveBigIntegerField(default=0)
    figures = models.JSONField(default=dict)
    history = models.JSONField(default=dict)

    class Meta:
        ordering = ["pk"]

    @property
    def format(self) -> str:
        """Its target, as people call it."""
        return ADM_TITLE if self.target == ADM else target_named(self.target).title

    @property
    def title(self) -> str:
        if self.alternative:
            return f"{self.figures['alternative']}, {self.format}"
        return f"{self.format}, stem {self.stem_title}" if self.stem else self.format

    @property
    def stem_title(self) -> str:
        """Its stem as people call it; one made by an earlier version knows its word alone."""
        return self.figures.get("stem_title") or self.stem

    @property
    def key(self) -> tuple[str, str, str]:
        """What it is of its mix; the same in every handover."""
        return self.alternative, self.stem, self.target

    @property
    def is_mix(self) -> bool:
        """Whether it is the mix itself, neither a part of it nor another programme."""
        return not self.stem and not self.alternative

    @property
    def is_fold_down(self) -> bool:
        """Whether its correlation is that of its fold-down."""
        return self.is_heard and target_named(self.target).channels != 2

    @property
    def is_heard(self) -> bool:
        """Whether it can be played channel for channel."""
        return self.target != ADM


class Submission(Work):
    """A file sent to the simulated platform; `options` names the rules, `figures` is its receipt.

    `name` stays where the file is gone.
    """

    mix = models.ForeignKey(Mix, models.CASCADE, related_name="submissions")
    file = models.ForeignKey(RenderFile, models.SET_NULL, null=True, related_name="submissions")
    name = models.CharField(max_length=255)
    figures = models.JSONField(default=dict)
