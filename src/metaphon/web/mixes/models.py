"""A mix as rows: what it is made of, whose it is, and what points at what.

The values of each row are one column, which `rows` reads and writes by the core's own model.
"""

from pathlib import Path

from django.conf import settings
from django.db import models
from django.db.models import F, Q
from django.db.models.fields.files import FieldFile

from metaphon.core.adm.importing import claims_of
from metaphon.core.document import mix as document
from metaphon.core.files.apart import read_apart
from metaphon.core.files.audio import MOST_CHANNELS


def between(field: str, low: float, high: float) -> models.CheckConstraint:
    """A constraint that a number lies in its range (NaN does not)."""
    return models.CheckConstraint(
        condition=Q(**{f"{field}__gte": low, f"{field}__lte": high}),
        name=f"%(class)s_{field}_range",
    )


def discard(*files: FieldFile) -> None:
    """Delete files from storage, each once however many fields name it."""
    for name, file in {str(file.name): file for file in files if file}.items():
        file.storage.delete(name)


class Mix(models.Model):
    title = models.CharField(max_length=120)
    sample_rate_hz = models.PositiveIntegerField(default=48000)
    values = models.JSONField(default=dict)  # as the core writes them
    revision = models.PositiveIntegerField(default=0)
    state = models.BigIntegerField(
        default=0
    )  # the last entry of its journal, which no other state ever has
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        verbose_name_plural = "mixes"
        ordering = ["-created_at", "-pk"]
        constraints = [between("sample_rate_hz", 44100, 192000)]

    def __str__(self) -> str:
        return self.title


class Member(models.Model):
    class Role(models.TextChoices):
        OWNER = "owner", "Owner"
        EDITOR = "editor", "Editor"
        LISTENER = "listener", "Listener"

    mix = models.ForeignKey(Mix, models.CASCADE, related_name="members")
    user = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE)
    role = models.CharField(max_length=8, choices=Role)
    put_away = models.BooleanField(default=False)  # out of this person's list

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["mix", "user"], name="member_once"),
            models.CheckConstraint(
                condition=Q(role__in=["owner", "editor", "listener"]), name="member_role_known"
            ),
        ]


class AccessToken(models.Model):
    """By which a script signs in for somebody; only its digest is kept."""

    user = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE, related_name="access_tokens")
    name = models.CharField(max_length=120)
    digest = models.CharField(max_length=64, unique=True)
    created_at = models.DateTimeField(auto_now_add=True)
    last_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["created_at"]


class EventAddress(models.Model):
    """Where somebody is told of what happens to their mixes."""

    user = models.ForeignKey(
        settings.AUTH_USER_MODEL, models.CASCADE, related_name="event_addresses"
    )
    url = models.CharField(max_length=1000)
    secret = models.TextField()  # that messages are signed with, encrypted
    created_at = models.DateTimeField(auto_now_add=True)
    told_at = models.DateTimeField(null=True)
    trouble = models.CharField(max_length=200, blank=True)  # why the last message was not taken

    class Meta:
        verbose_name_plural = "event addresses"
        ordering = ["created_at"]


def recording_path(audio: "AudioFile", name: str) -> str:
    return f"mixes/{audio.mix_id}/recordings/{name}"


class AudioFile(models.Model):
    """A recording that was brought in. `file` is at the mix's sample rate.

    `original` is kept where it was not.
    """

    mix = models.ForeignKey(Mix, models.CASCADE, related_name="audio_files")
    name = models.CharField(max_length=255)
    file = models.FileField(upload_to=recording_path, max_length=255)
    original = models.FileField(upload_to=recording_path, max_length=255, blank=True)
    waveform = models.FileField(upload_to=recording_path, max_length=255, blank=True)
    # of the recording's own header: when it began in the day, in seconds, where it says so
    time_reference_s = models.FloatField(null=True, blank=True)
    # what it says that its channels are; empty where it does not say
    layout = models.CharField(max_length=400, blank=True)
    container = models.CharField(max_length=8)
    encoding = models.CharField(max_length=24)
    channels = models.PositiveSmallIntegerField()
    frames = models.PositiveBigIntegerField()
    bytes = models.PositiveBigIntegerField(default=0)  # of all that is stored
    source_rate_hz = models.PositiveIntegerField()
    sample_peak_dbfs = models.FloatField(null=True)
    defined = models.BooleanField(null=True)  # `is_defined`, where it has been looked at
    outline = models.JSONField(default=list)
    notices = models.JSONField(default=list)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["pk"]
        constraints = [between("channels", 1, MOST_CHANNELS), between("frames", 1, 2**48)]

    @property
    def duration_s(self) -> float:
        return self.frames / self.mix.sample_rate_hz

    @property
    def as_brought(self) -> FieldFile:
        """The file as it came, before it was brought to the rate of the mix."""
        return self.original or self.file

    @property
    def is_defined(self) -> bool:
        """Whether it says itself what its channels are (ADM); looked at once."""
        if self.defined is None:
            path = Path(self.as_brought.path)
            held = read_apart(
                claims_of, path, self.channels, self.container, path=path, name=self.name
            )
            self.defined = held.is_defined
            AudioFile.objects.filter(pk=self.pk).update(defined=self.defined)
        return self.defined

    @property
    def stored(self) -> tuple[FieldFile, ...]:
        """All that storage holds of it."""
        return self.file, self.original, self.waveform


def response_path(response: "SpaceResponse", name: str) -> str:
    return f"spaces/{name}"


class SpaceResponse(models.Model):
    """The response of a space that somebody brought in or had made; any mix may use it.

    Those of one space have its title in common. `space` is what it was made of, where it was.
    """

    user = models.ForeignKey(
        settings.AUTH_USER_MODEL,
        models.SET_NULL,
        null=True,
        blank=True,
        related_name="space_responses",
    )
    title = models.CharField(max_length=120)
    microphone = models.CharField(max_length=60, blank=True)
    file = models.FileField(upload_to=response_path, max_length=255)
    shared = models.BooleanField(default=False)
    channels = models.PositiveSmallIntegerField()
    seconds = models.FloatField()
    bytes = models.PositiveBigIntegerField(default=0)
    sample_rate_hz = models.PositiveIntegerField()
    space = models.JSONField(null=True, blank=True)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["title", "pk"]
        constraints = [between("channels", 1, MOST_CHANNELS), between("seconds", 0.0, 60.0)]

    def __str__(self) -> str:
        return f"{self.title}, {self.microphone}" if self.microphone else self.title

    @property
    def stored_as(self) -> str:
        """The name that processors know it by."""
        return str(self.file.name)


class Group(models.Model):
    """Strips whose gains, mutes or positions are changed together."""

    mix = models.ForeignKey(Mix, models.CASCADE, related_name="groups")
    ref = models.CharField(max_length=64)
    position = models.PositiveIntegerField(default=0)
    values = models.JSONField(default=dict)

    class Meta:
        ordering = ["position", "pk"]
        constraints = [models.UniqueConstraint(fields=["mix", "ref"], name="group_ref_once")]


class Strip(models.Model):
    """A track or a bus: what it points at. All else of it is among its values."""

    class Kind(models.TextChoices):
        TRACK = "track", "Track"
        BUS = "bus", "Bus"

    mix = models.ForeignKey(Mix, models.CASCADE, related_name="strips")
    kind = models.CharField(max_length=5, choices=Kind)
    ref = models.CharField(max_length=64)
    position = models.PositiveIntegerField(default=0)
    group = models.ForeignKey(Group, models.SET_NULL, null=True, blank=True, related_name="strips")
    print_of = models.ForeignKey(
        "self", models.SET_NULL, null=True, blank=True, related_name="prints"
    )
    to_programme = models.BooleanField(default=True)
    output_bus = models.ForeignKey(
        "self", models.SET_NULL, null=True, blank=True, related_name="fed_by"
    )
    values = models.JSONField(default=dict)

    class Meta:
        ordering = ["-kind", "position", "pk"]  # tracks before buses
        constraints = [
            models.UniqueConstraint(fields=["mix", "ref"], name="strip_ref_once"),
            models.CheckConstraint(
                condition=~Q(to_programme=True, output_bus__isnull=False), name="strip_one_output"
            ),
            models.CheckConstraint(condition=~Q(output_bus=F("pk")), name="strip_not_into_itself"),
            models.CheckConstraint(condition=~Q(ref="programme"), name="strip_ref_not_programme"),
        ]

    @property
    def name(self) -> str:
        return str(self.values["name"])


class Clip(models.Model):
    """A part of a recording, which can not be removed while it is here."""

    track = models.ForeignKey(Strip, models.CASCADE, related_name="clips")
    audio = models.ForeignKey(AudioFile, models.RESTRICT, related_name="clips")
    position = models.PositiveIntegerField(default=0)
    values = models.JSONField(default=dict)

    class Meta:
        ordering = ["position", "pk"]

    @property
    def document(self) -> document.Clip:
        """The clip as the core knows it."""
        return document.Clip(file=Path(str(self.audio.file.name)), **self.values)


class Send(models.Model):
    source = models.ForeignKey(Strip, models.CASCADE, related_name="sends")
    bus = models.ForeignKey(Strip, models.CASCADE, related_name="received")
    values = models.JSONField(default=dict)

    class Meta:
        ordering = ["pk"]
        constraints = [
            models.UniqueConstraint(fields=["source", "bus"], name="send_once"),
            models.CheckConstraint(condition=~Q(source=F("bus")), name="send_not_into_itself"),
        ]


class StripResponse(models.Model):
    """A response that a chain uses, which can not be removed while it is here."""

    strip = models.ForeignKey(Strip, models.CASCADE, related_name="responses")
    response = models.ForeignKey(SpaceResponse, models.RESTRICT, related_name="used_by")

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["strip", "response"], name="strip_response_once")
        ]


class Lane(models.Model):
    """A value over time; large, so that it stands apart from what it moves."""

    mix = models.ForeignKey(Mix, models.CASCADE, related_name="automation")
    target = models.CharField(max_length=255)
    position = models.PositiveIntegerField(default=0)
    points = models.JSONField()  # three arrays, packed: t_s, value, curve

    class Meta:
        ordering = ["position", "pk"]
        constraints = [models.UniqueConstraint(fields=["mix", "target"], name="automation_once")]


class JournalEntry(models.Model):
    """One change to a mix: how it differs from the mix before.

    What undo, redo and the history are made of.
    """

    class Kind(models.TextChoices):
        EDIT = "edit"
        UNDO = "undo"
        REDO = "redo"

    mix = models.ForeignKey(Mix, models.CASCADE, related_name="journal")
    user = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True)
    revision = models.PositiveIntegerField()
    kind = models.CharField(max_length=4, choices=Kind, default=Kind.EDIT)
    what = models.CharField(max_length=255)
    changes = models.JSONField()
    undone = models.BooleanField(default=False)
    void = models.BooleanField(default=False)  # no step leads through it any more
    name = models.CharField(max_length=120, blank=True)  # of the state that it led to
    edit = models.CharField(max_length=40, blank=True)  # by which a listener knows it again
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-revision"]
        constraints = [
            models.UniqueConstraint(fields=["mix", "revision"], name="journal_revision_once")
        ]
