"""Responses of spaces by name: in rows and from pages they are named, in the document they lie."""

from pathlib import Path
from typing import Any

from django.core.files.storage import default_storage
from django.db.models import Q

from metaphon.core.edits.command import Command
from metaphon.core.edits.registry import with_files
from metaphon.core.errors import InputError
from metaphon.core.spaces.shipped import DISTANCES, FOLDER, MICROPHONES, SPACES, Shipped
from metaphon.web.mixes.models import Mix, Processor, SpaceResponse
from metaphon.web.mixes.permissions import User

_SHIPPED = "shipped/"
# what ships, by the name of each response: its space, its microphone, its distance
SHIPPED_RESPONSES: dict[str, tuple[Shipped, str, str]] = {
    _SHIPPED + one.file(microphone, distance).name: (one, microphone, distance)
    for one in SPACES
    for microphone in MICROPHONES
    for distance in DISTANCES
}


def path_of(name: str) -> Path:
    """Where a response lies on this machine, by its name."""
    if name.startswith(_SHIPPED):
        return FOLDER / Path(name).name
    return Path(default_storage.path(name))


def name_of(path: Path) -> str:
    """The name of a response. Raises InputError for a file that is none of those kept here."""
    if path.parent == FOLDER:
        return _SHIPPED + path.name
    try:
        name = str(path.relative_to(_root()))
    except ValueError:
        name = ""
    if not SpaceResponse.objects.filter(file=name).exists():
        raise InputError(f"The response {path.name} is not kept here; bring it in first.")
    return name


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


def kept(parameters: dict[str, Any]) -> dict[str, Any]:
    """The parameters of a processor as rows have them."""
    file = parameters.get("file")
    return {**parameters, "file": name_of(Path(file))} if file else parameters


def found(parameters: dict[str, Any]) -> dict[str, Any]:
    """The parameters of a processor as the document has them."""
    file = parameters.get("file")
    return {**parameters, "file": path_of(file)} if file else parameters


def with_files_of(command: Command, mix: Mix, user: User) -> Command:
    """A command from outside, the files that it names where they lie on this machine.

    A file may be a response that ships, one that this person may choose or the mix has already,
    or a recording of the mix. Raises InputError for any other, whether it exists or not.
    """
    return with_files(command, lambda file: _usable(_kept_as(file), mix, user))


def _kept_as(file: Path) -> str:
    """The name of a file that was told by its name, or by where it lies on this machine."""
    if not file.is_absolute():
        return str(file)
    if file.parent == FOLDER:
        return _SHIPPED + file.name
    return str(file.relative_to(_root())) if file.is_relative_to(_root()) else str(file)


def _usable(name: str, mix: Mix, user: User) -> Path:
    responses = SpaceResponse.objects.filter(file=name)
    is_usable = (
        name in SHIPPED_RESPONSES
        or responses.filter(Q(user=user.pk) | Q(shared=True)).exists()
        or Processor.objects.filter(strip__mix=mix, parameters__file=name).exists()
        or mix.audio_files.filter(file=name).exists()
    )
    if not is_usable:
        raise InputError(f"The file {Path(name).name} is not kept here; bring it in first.")
    return path_of(name)


def _root() -> Path:
    return Path(default_storage.path(""))
