"""From what a listener has chosen to what the engine takes.

Documents, and files only by their owners' leave.
"""

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from django.core.files.storage import default_storage

from metaphon.core.document.mix import Mix as Document
from metaphon.core.document.targets import Target, target_named
from metaphon.core.errors import InputError
from metaphon.core.files.channel_labels import order_in
from metaphon.core.files.mixdoc import parse
from metaphon.core.listen import headphones
from metaphon.core.process.basics import Basics
from metaphon.core.spatial.layouts import LAYOUTS, layout_for_channels
from metaphon.core.spatial.recording_layout import recorded_as
from metaphon.web.jobs.models import RenderFile
from metaphon.web.jobs.rendering import between
from metaphon.web.listen.models import Reference, UserFile
from metaphon.web.mixes.models import AudioFile, Mix
from metaphon.web.mixes.permissions import User
from metaphon.web.mixes.snapshots import document_at, document_of
from metaphon.web.mixes.stored_files import local_path
from metaphon.web.shell.posted import as_object, number_in

SHIPPED = {
    "open_pair": "Open pair (made up)",
    "closed_pair": "Closed pair (made up)",
    "practice_pair": "Practice pair",
}


SettingPath = tuple[str | int, ...]


class LostSetting(InputError):
    """A setting that cannot be used, as what it names is not there: where it stands, and why."""

    def __init__(self, path: SettingPath, sentence: str) -> None:
        super().__init__(sentence)
        self.path = path


def document_heard(mix: Mix, source: str) -> Document:
    """The document that is heard. Raises InputError where it is not there."""
    if source == "now":
        return document_of(mix)
    kind, *texts = source.split(" ")
    numbers = [number for text in texts if (number := number_in(text)) is not None]
    if len(numbers) != len(texts) or not numbers:
        raise InputError("This is no longer there to be heard; choose something else.")
    number = numbers[0]
    if kind == "revision":
        return document_at(mix, number)
    if kind == "reference":
        reference = Reference.objects.filter(mix=mix, pk=number).select_related("audio").first()
        if reference is None:
            raise InputError("This reference is no longer there; choose another.")
        audio = reference.audio
        return _of_files(mix, reference_layout(audio), local_path(audio))
    if kind == "difference":
        return _difference(mix, *(_result(mix, number) for number in numbers))
    file = _result(mix, number)
    return _of_files(mix, file.target, _path(mix, file))


def _result(mix: Mix, number: int) -> RenderFile:
    file = RenderFile.objects.filter(render__mix=mix, pk=number, kind="audio").first()
    if file is None or not file.is_heard:
        raise InputError("This result is no longer there to be heard; choose another.")
    return file


def _path(mix: Mix, file: RenderFile) -> Path:
    rate_hz = file.figures.get("sample_rate_hz", mix.sample_rate_hz)
    if rate_hz != mix.sample_rate_hz:
        raise InputError(
            f"This file is at {rate_hz / 1000:g} kHz and the mix at {mix.sample_rate_hz / 1000:g}; "
            "bring it in as a track or a reference to hear it."
        )
    return Path(default_storage.path(str(file.file.name)))


def _difference(mix: Mix, new: RenderFile, old: RenderFile) -> Document:
    """What one result has that another has not: the other turned over, at its time and level."""
    if new.target != old.target:
        raise InputError("These two results are of different formats and have no difference.")
    document = _of_files(mix, new.target, _path(mix, new), _path(mix, old))
    late_s, gain_db = between(new, old)
    first, second = document.tracks
    turned = Basics(polarity_inverted=True)
    clips = [
        track.clips[0].model_copy(update={"start_s": max(start_s, 0.0)})
        for track, start_s in ((first, late_s), (second, -late_s))
    ]
    return document.model_copy(
        update={
            "tracks": (
                first.model_copy(update={"clips": tuple(clips[:1])}),
                second.model_copy(
                    update={"clips": tuple(clips[1:]), "chain": (turned,), "gain_db": gain_db}
                ),
            )
        }
    )


def reference_layout(audio: AudioFile) -> str:
    """The layout of a reference by its name: what it says, else what its number suggests."""
    told = recorded_as(audio.layout).layout.name if audio.layout else ""
    return told if told in LAYOUTS else layout_for_channels(audio.channels).name


def _of_files(mix: Mix, target: str, *paths: Path) -> Document:
    """Recordings as a mix of their own, each channel as its file names it."""
    named = target_named(target)
    place = (
        {"mode": "scene"}
        if named.order
        else {"mode": "bed", "layout": named.layout.name if named.layout else "0+2+0"}
    )
    tracks = [
        {
            "id": f"file{n}",
            "name": path.name,
            "clips": [{"file": path}],
            "placement": place,
            "layout": _told(path, named),
        }
        for n, path in enumerate(paths)
    ]
    return parse(
        {
            "format": "metaphon-mix",
            "title": mix.title,
            "sample_rate_hz": mix.sample_rate_hz,
            "tracks": tracks,
        }
    )


def _told(path: Path, target: Target) -> str:
    if target.layout is None or target.channels < 3:
        return ""
    order = order_in(path, target.layout)
    labels = dict(zip(order, target.layout.labels, strict=True))
    return " ".join(labels[channel] for channel in sorted(labels))


def monitor_of(raw: Any, user: User) -> dict[str, Any]:
    """Monitor settings, the files they name found among those shipped and this person's own.

    Raises LostSetting where one is not there.
    """
    monitor = dict(as_object(raw))
    binaural = _part(monitor, "binaural")
    binaural.pop("head_file", None)
    if str(binaural.get("head", "")).startswith("own:"):
        with _setting("monitor", "binaural", "head"):
            binaural["head_file"] = _own_file(str(binaural["head"]), user, UserFile.Kind.HEAD)
    monitor["binaural"] = binaural
    correction = _part(monitor, "correction")
    monitor["correction"] = None
    if correction.get("response"):
        for name in ("response", "target"):
            key = correction.get(name)
            with _setting("monitor", "correction", name):
                correction[name] = headphone_file(str(key), user) if key else None
        monitor["correction"] = correction
    monitor["worn"] = headphones.PRACTICE if monitor.get("worn") else None
    return monitor


def _part(monitor: dict[str, Any], name: str) -> dict[str, Any]:
    found = monitor.get(name) or {}
    if not isinstance(found, dict):
        raise LostSetting(("monitor", name), f"The setting {name} could not be used.")
    return dict(found)


@contextmanager
def _setting(*path: str) -> Iterator[None]:
    """Say of what is refused at which setting it stands."""
    try:
        yield
    except InputError as error:
        raise LostSetting(path, str(error)) from None


def headphone_file(key: str, user: User) -> Path:
    """The response that a key names: one shipped, or `own:` and the number of an uploaded one."""
    if key in SHIPPED:
        return headphones.SHIPPED / f"{key}.csv"
    return _own_file(key, user, UserFile.Kind.HEADPHONES)


def _own_file(key: str, user: User, kind: str) -> Path:
    number = number_in(key.removeprefix("own:")) or 0
    row = UserFile.objects.filter(user=user.pk, kind=kind, pk=number).first()
    if row is None:
        raise InputError("This file of yours is no longer there; choose another.")
    return Path(default_storage.path(str(row.file.name)))
