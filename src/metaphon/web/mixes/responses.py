"""Responses of spaces by name: from pages they are named, in the document they lie."""

from pathlib import Path
from typing import Any

from django.db.models import Q

from metaphon.core.edits.command import Command
from metaphon.core.edits.registry import with_files
from metaphon.core.errors import InputError
from metaphon.core.spaces.shipped import DISTANCES, MICROPHONES, SPACES, Shipped
from metaphon.web.mixes.models import Mix, SpaceResponse
from metaphon.web.mixes.permissions import User
from metaphon.web.mixes.stored_files import SHIPPED, name_of, path_of

# what ships, by the name of each response: its space, its microphone, its distance
SHIPPED_RESPONSES: dict[str, tuple[Shipped, str, str]] = {
    SHIPPED + one.file(microphone, distance).name: (one, microphone, distance)
    for one in SPACES
    for microphone in MICROPHONES
    for distance in DISTANCES
}


def title_of(reverb: Any) -> str:
    """What a reverb's response is called; empty where it has none."""
    file = getattr(reverb, "file", None)
    if file is None:
        return ""
    name = name_of(file)
    if name in SHIPPED_RESPONSES:
        space, microphone, distance = SHIPPED_RESPONSES[name]
        return f"{space.room.title}, {MICROPHONES[microphone].lower()}, {distance}"
    return str(SpaceResponse.objects.filter(file=name).first() or Path(name).stem)


def with_files_of(command: Command, mix: Mix, user: User) -> Command:
    """A command from outside, the files that it names where they lie on this machine.

    A file may be a response that ships, one that this person may choose or the mix has already,
    or a recording of the mix. Raises InputError for any other, whether it exists or not.
    """
    return with_files(command, lambda file: _usable(name_of(file), mix, user))


def _usable(name: str, mix: Mix, user: User) -> Path:
    responses = SpaceResponse.objects.filter(file=name)
    is_usable = (
        name in SHIPPED_RESPONSES
        or responses.filter(Q(user=user.pk) | Q(shared=True)).exists()
        or responses.filter(used_by__strip__mix=mix).exists()
        or mix.audio_files.filter(file=name).exists()
    )
    if not is_usable:
        raise InputError(f"The file {Path(name).name} is not kept here; bring it in first.")
    return path_of(name)
