"""New mixes: empty, from a starting mix, like one of one's own, or a copy of one."""

import tempfile
from pathlib import Path

from django.conf import settings
from django.db import transaction
from django.http import HttpRequest

from metaphon.core.adm.importing import import_file
from metaphon.core.demo.starting_mixes import STARTING_MIXES, like, write_signal
from metaphon.core.document.mix import Mix as Document
from metaphon.core.errors import InputError
from metaphon.core.files.apart import read_apart
from metaphon.core.files.mixdoc import with_files
from metaphon.web.mixes.models import AudioFile, Member, Mix
from metaphon.web.mixes.permissions import mix_for
from metaphon.web.mixes.recordings import copied, store
from metaphon.web.mixes.snapshots import document_of, recordings_of
from metaphon.web.mixes.unpacking import unpack
from metaphon.web.shell.posted import number_in

RATES_HZ = (44100, 48000, 88200, 96000)


def beginnings(request: HttpRequest) -> list[tuple[str, list[tuple[str, str, str]]]]:
    """What a new mix may begin with: groups of (name, title, why)."""
    shipped = [(name, one.title, one.why) for name, one in STARTING_MIXES.items()]
    own = Mix.objects.filter(members__user=request.user.pk).order_by("title")
    theirs = [
        (f"mix {mix.pk}", mix.title, "Its tracks, buses and settings, without its recordings.")
        for mix in own
    ]
    empty = ("", "Empty", "Nothing but what you bring in.")
    return [("To begin with", [empty, *shipped]), ("Like a mix of yours", theirs)]


def begin(request: HttpRequest, title: str, rate_hz: int, name: str) -> Mix:
    """Make a mix from what it is to begin with. Raises InputError for a name that is unknown."""
    kind, _, text = name.partition(" ")
    number = number_in(text)
    if kind == "mix" and number is not None:
        other = mix_for(request, number)
        return _made(request, like(document_of(other), title), {})
    if not name:
        return _made(request, Document(title=title, sample_rate_hz=rate_hz), {})
    if name not in STARTING_MIXES:
        raise InputError("Choose what the mix begins with from the list.")
    starting = STARTING_MIXES[name]
    scratch = Path(settings.FILE_UPLOAD_TEMP_DIR or settings.MEDIA_ROOT)
    with tempfile.TemporaryDirectory(dir=scratch) as folder:
        signal = write_signal(starting, rate_hz, Path(folder))
        document = with_files(starting.make(title, rate_hz), lambda _: signal)
        return _made(request, document, {})


def copy_of(request: HttpRequest, mix: Mix) -> Mix:
    """Make another mix of one, its recordings too; the history is not copied."""
    document = document_of(mix)
    title = f"{document.title[:112]} (copy)"
    return _made(request, document.model_copy(update={"title": title}), recordings_of(mix))


def of_definition(request: HttpRequest, audio: AudioFile) -> tuple[Mix, tuple[str, ...]]:
    """Make a mix of a recording with an audio definition; gives what could not be taken over.

    Raises InputError where it has none, or one that cannot be read.
    """
    path = Path(audio.as_brought.path)
    scratch = Path(settings.FILE_UPLOAD_TEMP_DIR or settings.MEDIA_ROOT)
    with tempfile.TemporaryDirectory(dir=scratch) as folder:
        document, notes = read_apart(
            import_file, path, Path(folder), Path(audio.name).stem, path=path, name=audio.name
        )
        return _made(request, document, {}), notes


def _made(request: HttpRequest, document: Document, known: dict[Path, AudioFile]) -> Mix:
    """The rows of a document as a mix of this person; `known` are recordings to be copied."""
    with transaction.atomic():
        mix = Mix.objects.create(title=document.title, sample_rate_hz=document.sample_rate_hz)
        Member.objects.create(mix=mix, user_id=int(request.user.pk or 0), role=Member.Role.OWNER)

        def recording(file: Path) -> AudioFile:
            return copied(known[file], mix) if file in known else store(mix, file, file.name)

        unpack(document, mix, recording)
    return mix
