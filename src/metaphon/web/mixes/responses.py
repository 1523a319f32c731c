"""Responses of spaces by name: in rows and from pages they are named, in the document they lie."""

from pathlib import Path
from typing import Any

from django.core.files.storage import default_storage

from metaphon.core.edits.command import Command
from metaphon.core.edits.registry import with_files
from metaphon.core.errors import InputError
from metaphon.core.spaces.shipped import DISTANCES, FOLDER, MICROPHONES, SPACES, Shipped
from metaphon.web.mixes.models import SpaceResponse

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


def on_this_machine(command: Command) -> Command:
    """A command from outside, its files where they lie.

    Raises InputError for a file that is neither in storage nor shipped.
    """
    return with_files(command, _here)


def _here(file: Path) -> Path:
    shipped = str(file).startswith(_SHIPPED)
    place = path_of(str(file)) if shipped else _root() / file
    if place.parent != FOLDER and not place.resolve().is_relative_to(_root().resolve()):
        raise InputError(f"The file {file.name} is not kept here; bring it in first.")
    return place


def _root() -> Path:
    return Path(default_storage.path(""))
