"""Where files lie on this machine, and by what names they are kept."""

from pathlib import Path
from typing import TYPE_CHECKING

from django.core.files.storage import default_storage

from metaphon.core.kept_form import KeptForm
from metaphon.core.spaces.shipped import FOLDER

if TYPE_CHECKING:
    from metaphon.web.mixes.models import AudioFile

SHIPPED = "shipped/"


def path_of(name: str) -> Path:
    """Where a recording or response lies on this machine, by its name."""
    if name.startswith(SHIPPED):
        return FOLDER / Path(name).name
    return Path(default_storage.path(name))


def name_of(file: Path) -> str:
    """The name of a file that was told by its name, or by where it lies on this machine."""
    if not file.is_absolute():
        return str(file)
    if file.parent == FOLDER:
        return SHIPPED + file.name
    root = Path(default_storage.path(""))
    return str(file.relative_to(root)) if file.is_relative_to(root) else str(file)


KEPT = KeptForm(name_of, path_of)


def local_path(audio: "AudioFile") -> Path:
    """Where a recording lies on this machine."""
    return path_of(str(audio.file.name))
