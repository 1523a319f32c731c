"""A mix as rows. The rules of sound live in the core.

Here stand only what would be nonsense in any mix.
"""

from pathlib import Path

from django.conf import settings
from django.db import models
from django.db.models import F, Q
from django.db.models.fields.files import FieldFile

from metaphon.core.adm.importing import claims_of
from metaphon.core.document import mix as document
from metaphon.core.document.alternatives import NONE
from metaphon.core.document.delivery_limits import NO_LIMITS
from metaphon.core.document.fold_down import FoldDown
from metaphon.core.document.part import Part
from metaphon.core.document.targets import target_named
from metaphon.core.document.value_paths import range_of_field
from metaphon.core.files.apart import read_apart
from metaphon.core.files.audio import MOST_CHANNELS


def between(field: str, low: float, high: float) -> models.CheckConstraint:
    """A constraint that a number lies in its range (NaN does not)."""
    return models.CheckConstraint(
        condition=Q(**{f"{field}__gte": low, f"{field}__lte": high}),
        name=f"%(class)s_{field}_range",
    )


def within_ranges(part: type[Part], prefix: str = "") -> list[models.BaseConstraint]:
    """Constraints that the numbers of a part of a mix lie in the ranges that its fields have.

    `prefix` begins the names of the columns.
    """
    ranges = {prefix + name: range_of_field(field) for name, field in part.model_fields.items()}
    return [between(name, *found) for name, found in ranges.items() if found]


def discard(*files: FieldFile) -> None:
    """Delete files from storage, each once however many fields name it."""
    for name, file in {str(file.name): file for file in files if file}.items():
        file.storage.delete(name)


class Row(models.Model):
    """A row that templates can put into addresses without a look-up for each."""

    class Meta:
        abstract = True

    @property
    def pk_text(self) -> str:
        return str(self.pk)


def no_limits() -> dict[str, object]:
    return NO_LIMITS.model_dump(mode="json")


def no_alternatives() -> dict[str, object]:
    return NONE.model_dump(mode="json")


class Mix(models.Model):
    title = models.CharField(max_length=120)
    sample_rate_hz = models.PositiveIntegerField(default=48000)
    tempo_bpm = models.FloatField(default=120.0)
    start_timecode = models.CharField(max_length=11, default="00:00:00:00")
    frame_rate = models.CharField(max_length=9, default="25")
    fold_centre_db = models.FloatField(default=-3.0)
    fold_surround_db = models.FloatField(default=-3.0)
    fold_height_db = models.FloatField(default=0.0)
    fold_lfe_db = models.FloatField(null=True, blank=True)
    fold_surround_shift = models.BooleanField(default=False)
    delivery = models.JSONField(default=no_limits)
    alternatives = models.JSONField(default=no_alternatives)
    markers = models.JSONField(default=list)
    revision = models.PositiveIntegerField(default=0)
    state = models.BigIntegerField(
        default=0
    )  # the last entry of its journal, which no other state ever has
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        verbose_name_plural = "mixes"
        ordering = ["-created_at", "-pk"]
        constraints = [
            between("sample_rate_hz", 44100, 192000),
            between("tempo_bpm", 20, 300),
            *within_ranges(FoldDown, "fold_"),
        ]

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


class Group(Row):
    """Strips whose gains, mutes or positions are changed together."""

    mix = models.ForeignKey(Mix, models.CASCADE, related_name="groups")
    ref = models.CharField(max_length=64)
    name = models.CharField(max_length=120)
    moves_gain = models.BooleanField(default=True)
    moves_mute = models.BooleanField(default=True)
    moves_position = models.BooleanField(default=False)

    class Meta:
        ordering = ["pk"]
        constraints = [models.UniqueConstraint(fields=["mix", "ref"], name="group_ref_once")]


class Strip(Row):
    """A track or a bus: what both share in the mix document.

    A print knows what it was made of, and its take.
    """

    class Kind(models.TextChoices):
        TRACK = "track", "Track"
        BUS = "bus", "Bus"

    mix = models.ForeignKey(Mix, models.CASCADE, related_name="strips")
    kind = models.CharField(max_length=5, choices=Kind)
    ref = models.CharField(max_length=64)
    name = models.CharField(max_length=120)
    colour = models.CharField(max_length=10, default="none")
    note = models.TextField(blank=True)
    position = models.PositiveIntegerField(default=0)
    muted = models.BooleanField(default=False)
    resting = models.BooleanField(default=False)
    soloed = models.BooleanField(default=False)
    solo_safe = models.BooleanField(default=False)
    group = models.ForeignKey(Group, models.SET_NULL, null=True, blank=True, related_name="strips")
    print_of = models.ForeignKey(
        "self", models.SET_NULL, null=True, blank=True, related_name="prints"
    )
    take = models.PositiveSmallIntegerField(default=0)
    gain_db = models.FloatField(default=0.0)
    lfe_on = models.BooleanField(default=False)
    lfe_level_db = models.FloatField(default=0.0)
    lfe_corner_hz = models.FloatField(default=120.0)
    to_programme = models.BooleanField(default=True)
    output_bus = models.ForeignKey(
        "self", models.SET_NULL, null=True, blank=True, related_name="fed_by"
    )
    layout = models.CharField(max_length=1500, blank=True)

    class Meta:
        ordering = ["-kind", "position", "pk"]  # tracks before buses
        constraints = [
            models.UniqueConstraint(fields=["mix", "ref"], name="strip_ref_once"),
            *within_ranges(document.Strip),
            *within_ranges(document.LfeSend, "lfe_"),
            models.CheckConstraint(
                condition=Q(kind="track") | ~Q(layout=""), name="strip_bus_has_layout"
            ),
            models.CheckConstraint(
                condition=~Q(to_programme=True, output_bus__isnull=False), name="strip_one_output"
            ),
            models.CheckConstraint(condition=~Q(output_bus=F("pk")), name="strip_not_into_itself"),
            models.CheckConstraint(condition=~Q(ref="programme"), name="strip_ref_not_programme"),
        ]

    def __str__(self) -> str:
        return self.name


class Clip(models.Model):
    track = models.ForeignKey(Strip, models.CASCADE, related_name="clips")
    audio = models.ForeignKey(AudioFile, models.RESTRICT, related_name="clips")
    start_s = models.FloatField(default=0.0)
    in_s = models.FloatField(default=0.0)
    length_s = models.FloatField(null=True, blank=True)
    gain_db = models.FloatField(default=0.0)
    fade_in_s = models.FloatField(default=0.0)
    fade_out_s = models.FloatField(default=0.0)
    position = models.PositiveIntegerField(default=0)

    class Meta:
        ordering = ["position", "pk"]
        constraints = within_ranges(document.Clip)


class Send(models.Model):
    source = models.ForeignKey(Strip, models.CASCADE, related_name="sends")
    bus = models.ForeignKey(Strip, models.CASCADE, related_name="received")
    level_db = models.FloatField(default=-12.0)
    tap = models.CharField(
        max_length=5,
        choices=[("strip", "pre-strip"), ("pre", "pre-fader"), ("post", "post-fader")],
        default="post",
    )
    muted = models.BooleanField(default=False)
    azimuth_deg = models.FloatField(null=True, blank=True)

    class Meta:
        ordering = ["bus__position", "pk"]
        constraints = [
            models.UniqueConstraint(fields=["source", "bus"], name="send_once"),
            models.CheckConstraint(condition=~Q(source=F("bus")), name="send_not_into_itself"),
            models.CheckConstraint(
                condition=Q(tap__in=["strip", "pre", "post"]), name="send_tap_known"
            ),
            *within_ranges(document.Send),
        ]


class Processor(Row):
    strip = models.ForeignKey(Strip, models.CASCADE, related_name="processors")
    position = models.PositiveIntegerField(default=0)
    kind = models.CharField(max_length=40)
    bypassed = models.BooleanField(default=False)
    parameters = models.JSONField(default=dict)

    class Meta:
        ordering = ["position", "pk"]


class Placement(models.Model):
    class Mode(models.TextChoices):
        BED = "bed", "Bed"
        OBJECT = "object", "Object"
        SCENE = "scene", "Scene"
        NONE = "none", "None"

    strip = models.OneToOneField(Strip, models.CASCADE, related_name="placement")
    mode = models.CharField(max_length=6, choices=Mode, default=Mode.BED)
    layout = models.CharField(max_length=40, default="0+5+0")
    coordinates = models.CharField(
        max_length=6, choices=[("sphere", "angles"), ("cube", "room")], default="sphere"
    )
    reference = models.CharField(max_length=40, default="4+5+0")
    azimuth_deg = models.FloatField(default=0.0)
    elevation_deg = models.FloatField(default=0.0)
    distance = models.FloatField(default=1.0)
    extent_deg = models.FloatField(default=0.0)
    extent_height_deg = models.FloatField(null=True, blank=True)
    extent_depth = models.FloatField(default=0.0)
    x = models.FloatField(default=0.0)
    y = models.FloatField(default=1.0)
    z = models.FloatField(default=0.0)
    extent_x = models.FloatField(default=0.0)
    extent_y = models.FloatField(default=0.0)
    extent_z = models.FloatField(default=0.0)
    pair_deg = models.FloatField(default=60.0)
    divergence = models.FloatField(default=0.0)
    divergence_range_deg = models.FloatField(default=45.0)
    diffuseness = models.FloatField(default=0.0)
    importance = models.PositiveSmallIntegerField(default=10)
    snap = models.BooleanField(default=False)
    on_sphere = models.BooleanField(default=False)
    excluded = models.JSONField(default=list)
    level_db_per_doubling = models.FloatField(default=0.0)
    air = models.BooleanField(default=False)
    travel = models.BooleanField(default=False)
    sphere_m = models.FloatField(default=2.0)
    sends_too = models.BooleanField(default=False)
    reflections = models.BooleanField(default=False)
    reflections_db = models.FloatField(default=-6.0)
    room_width_m = models.FloatField(default=8.0)
    room_depth_m = models.FloatField(default=10.0)
    room_height_m = models.FloatField(default=4.0)
    room_absorption = models.FloatField(default=0.3)
    roll_deg = models.FloatField(default=0.0)
    decoder = models.CharField(max_length=16, default="allrad")
    weighting = models.CharField(max_length=16, default="max_re")
    locked = models.BooleanField(default=False)

    class Meta:
        constraints = [
            models.CheckConstraint(
                condition=Q(mode__in=["bed", "object", "scene", "none"]),
                name="placement_mode_known",
            ),
            models.CheckConstraint(
                condition=Q(coordinates__in=["sphere", "cube"]), name="placement_form_known"
            ),
            *within_ranges(document.Placement),
        ]


class Automation(models.Model):
    mix = models.ForeignKey(Mix, models.CASCADE, related_name="automation")
    target = models.CharField(max_length=255)
    points = models.JSONField()  # three arrays, packed: t_s, value, curve

    class Meta:
        ordering = ["target"]
        constraints = [models.UniqueConstraint(fields=["mix", "target"], name="automation_once")]


class Target(models.Model):
    mix = models.ForeignKey(Mix, models.CASCADE, related_name="targets")
    name = models.CharField(max_length=1500)
    position = models.PositiveIntegerField(default=0)

    class Meta:
        ordering = ["position", "pk"]
        constraints = [models.UniqueConstraint(fields=["mix", "name"], name="target_once")]

    @property
    def title(self) -> str:
        return target_named(self.name).title

    @property
    def short(self) -> str:
        """Its title without the standard's name."""
        return self.title.split(" (")[0]


class JournalEntry(models.Model):
    """One change to a mix, with the rows before and after.

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
