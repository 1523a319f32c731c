"""Bringing a recording into a mix: checked, stored, and set on a track of its own."""

import tempfile
import uuid
from collections.abc import Callable
from functools import lru_cache
from pathlib import Path

from django.core.files import File
from django.core.files.storage import default_storage
from django.db.models.fields.files import FieldFile

from metaphon.core.adm.importing import claims_of
from metaphon.core.document.mix import Mix as Document
from metaphon.core.document.mix_layout import has_objects, layout_of_mix
from metaphon.core.edits.structure import AddTrack
from metaphon.core.errors import InputError
from metaphon.core.files.apart import read_apart
from metaphon.core.files.cues import Cue, cues_of
from metaphon.core.files.intake import take_in
from metaphon.core.files.waveform import measure_peaks
from metaphon.core.presence import present
from metaphon.core.spatial.ambisonics import MAX_ORDER, channels_of, order_of
from metaphon.core.spatial.layouts import LAYOUTS, layout_for_channels
from metaphon.core.spatial.recording_layout import recorded_as
from metaphon.web.mixes.models import AudioFile, Mix
from metaphon.web.mixes.space import require_space, room_bytes
from metaphon.web.mixes.stored_files import local_path
from metaphon.web.storage import scratch, stored

_SUFFIXES = {
    "WAV": "wav",
    "W64": "w64",
    "FLAC": "flac",
    "AIFF": "aiff",
    "CAF": "caf",
    "Ogg": "ogg",
    "MP3": "mp3",
}
_TOLD_FROM = 3  # channels
SCENE_CHANNELS = tuple(channels_of(order) for order in range(1, MAX_ORDER + 1))


class _Finished(File):  # type: ignore[type-arg]  # not generic when run
    """A file on this machine that storage may move rather than copy."""

    def temporary_file_path(self) -> str:
        assert self.name is not None
        return self.name


def _untold(done: float) -> None:
    """Where nobody wants to know how far it is."""


def store(
    mix: Mix, path: Path, name: str, progress: Callable[[float], None] | None = None
) -> AudioFile:
    """Check a file from end to end and keep it; the file itself is moved away.

    `progress` is told how much of it was checked, 0 to 1. Raises InputError in one sentence, and
    then nothing is left behind.
    """
    with tempfile.TemporaryDirectory(dir=path.parent) as folder:
        converted = Path(folder) / "converted.wav"
        taken = read_apart(
            take_in,
            path,
            mix.sample_rate_hz,
            converted,
            name,
            room_bytes(mix),
            path=path,
            name=name,
            progress=progress or _untold,
        )
        claims = read_apart(
            claims_of, path, taken.channels, taken.info.container, path=path, name=name
        )
        began = claims.time_reference_samples
        audio = AudioFile(
            mix=mix,
            name=name[:255],
            container=taken.info.container,
            encoding=taken.info.encoding,
            channels=taken.channels,
            frames=taken.frames,
            source_rate_hz=taken.info.sample_rate_hz,
            sample_peak_dbfs=taken.sample_peak_dbfs,
            outline=taken.outline,
            notices=taken.notices,
            time_reference_s=began / taken.info.sample_rate_hz if began else None,
            layout=claims.layout,
            defined=claims.is_defined,
        )
        stem, suffix = uuid.uuid4().hex, _SUFFIXES[taken.info.container]
        if taken.converted:
            keep(audio.original, f"{stem}_original.{suffix}", path)
            keep(audio.file, f"{stem}.wav", converted)
        else:
            keep(audio.file, f"{stem}.{suffix}", path)
        audio.bytes = sum(file.size for file in (audio.file, audio.original) if file)
        audio.save()
    draw(audio)
    return audio


def copied(audio: AudioFile, mix: Mix) -> AudioFile:
    """The same recording in another mix, with files of its own."""
    require_space(mix, audio.bytes)
    copy = AudioFile(mix=mix)
    for field in AudioFile._meta.concrete_fields:
        if field.name not in ("id", "mix", "created_at", "file", "original", "waveform"):
            setattr(copy, field.name, getattr(audio, field.name))
    with tempfile.TemporaryDirectory(dir=scratch()) as folder:
        for name in ("file", "original", "waveform"):
            held = getattr(audio, name)
            if held:
                path = Path(folder) / Path(held.name).name
                stored.take_out(held.name, path)
                keep(getattr(copy, name), f"{uuid.uuid4().hex}{path.suffix}", path)
    copy.save()
    return copy


def draw(audio: AudioFile) -> Path:
    """Where the peaks of a recording are kept, for drawing it; measured where they are not yet."""
    if not audio.waveform:
        recording = local_path(audio)
        with tempfile.TemporaryDirectory(dir=scratch()) as folder:
            peaks = Path(folder) / "peaks.npy"
            measure_peaks(recording, peaks)
            keep(audio.waveform, f"{recording.stem}.npy", peaks)
        audio.save(update_fields=["waveform"])
    return Path(default_storage.path(str(audio.waveform.name)))


def cues_in(audio: AudioFile) -> tuple[Cue, ...]:
    """The cues that a recording brings along; a file that is kept never changes."""
    return _cues_in(Path(audio.as_brought.path), audio.name)


@lru_cache(maxsize=500)
def _cues_in(path: Path, name: str) -> tuple[Cue, ...]:
    return tuple(read_apart(cues_of, path, path=path, name=name))


def keep(field: FieldFile, name: str, path: Path) -> None:
    """Move a file of this machine into storage, as the content of a row that is not saved yet."""
    with present(path).open("rb") as file:
        field.save(name, _Finished(file, name=str(path)), save=False)


def kind_of(channels: int, layout: str = "") -> str:
    """What a recording of so many channels is taken for, in words; by what it says, if it does."""
    if layout:
        return recorded_as(layout).layout.title
    if channels in SCENE_CHANNELS:
        return f"Ambisonic {order_of(channels)}"
    try:
        return layout_for_channels(channels).title
    except InputError:
        return f"{channels} channels"


def track_of(audio: AudioFile, mix: Document) -> AddTrack:
    """The command that makes a track of a recording, at the start of the mix.

    A scene stays one. Mono is an object where the mix has objects or is delivered with some. All
    else is in a bed of the mix's own layout, or of the recording's where that is wider.
    """
    is_scene = audio.channels in SCENE_CHANNELS and not audio.layout
    fits = kind_of(audio.channels, audio.layout) != f"{audio.channels} channels"
    bed = ""
    if fits and not is_scene:
        told = recorded_as(audio.layout).layout if audio.layout else None
        own = told or layout_for_channels(audio.channels)
        is_wider = own.channels > LAYOUTS[layout_of_mix(mix)].channels
        bed = own.name if is_wider and own.channels > 1 else ""
    is_object = audio.channels == 1 and has_objects(mix)
    return AddTrack(
        name=Path(audio.name).stem[:110],
        file=local_path(audio),
        mode="scene" if is_scene else "object" if is_object else "bed" if fits else "none",
        layout=bed if bed in LAYOUTS else None,
        recorded=audio.layout,
    )


def unsaid(audio: AudioFile) -> str:
    """What to say of a recording of many channels that does not tell what they are."""
    if audio.layout or audio.channels < _TOLD_FROM or audio.channels in (*SCENE_CHANNELS, 3):
        return ""
    return (
        f"{audio.name} does not say what its {audio.channels} channels are; it is taken for "
        f"{kind_of(audio.channels)}. Hear and name its channels in Flow if it is something else."
    )
