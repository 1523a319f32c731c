"""Where files are kept: in a folder that all machines reach (for a bucket see `bucket`)."""

import shutil
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, cast

from django.conf import settings
from django.core.files.storage import FileSystemStorage, default_storage

from metaphon.core.presence import brought_by

KEPT_IN = ("mixes", "people", "spaces")
ARRIVING = "arriving"  # what is on its way


def scratch() -> Path:
    """A folder of this machine for what is being made."""
    folder = Path(settings.MEDIA_ROOT) / "scratch"
    folder.mkdir(parents=True, exist_ok=True)
    return folder


class Folder(FileSystemStorage):
    """All machines reach the folder."""

    def __init__(self, **options: Any) -> None:
        super().__init__(**options)
        brought_by(None)

    def share(self, name: str) -> None:
        """Let other machines have a file that lies at its place here."""

    def unshare(self, prefix: str) -> None:
        """Forget for all machines what was shared below a name."""

    def take_out(self, name: str, path: Path) -> None:
        """Copy a stored file to a path. Raises FileNotFoundError where it is not there."""
        shutil.copyfile(self.path(name), path)

    def put_in(self, name: str, path: Path) -> None:
        """Store a copy of a file under just this name."""
        held = Path(self.path(name))
        held.parent.mkdir(parents=True, exist_ok=True)
        passing = held.with_name(f".{held.name}.part")
        shutil.copyfile(path, passing)
        passing.replace(held)

    def below(self, folder: str) -> Iterator[tuple[str, datetime]]:
        """The names of all files in and below a folder, and when they were stored."""
        root = Path(self.location)
        for path in (root / folder).rglob("*"):
            if path.is_file():
                when = datetime.fromtimestamp(path.lstat().st_mtime, UTC)
                yield path.relative_to(root).as_posix(), when

    def make_way(self, most_bytes: int) -> int:
        """Nothing lies here that is not kept here."""
        return 0


# how files are kept is set; a bucket has the same methods
stored = cast(Folder, default_storage)
