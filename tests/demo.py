"""The demo for tests: its sounds are made once for a whole run and copied from then on."""

import atexit
import io
import shutil
import tempfile
from functools import lru_cache
from pathlib import Path
from unittest.mock import patch

from django.core.management import call_command

from metaphon.core.demo.mixes import write_demo

_COMMAND = "metaphon.web.intake.management.commands.demo.write_demo"


@lru_cache(maxsize=1)
def _made() -> tuple[Path, tuple[Path, ...]]:
    folder = Path(tempfile.mkdtemp())
    atexit.register(shutil.rmtree, folder, True)
    return folder, tuple(write_demo(folder))


def demo_in(folder: Path) -> list[Path]:
    """The demo's documents with their audio, in a folder; as `write_demo`."""
    source, documents = _made()
    shutil.copytree(source, folder, dirs_exist_ok=True)
    return [folder / document.name for document in documents]


def bring_in_demo() -> None:
    """The demo user and mixes in the database, by the application's own command."""
    with patch(_COMMAND, demo_in):
        call_command("demo", stdout=io.StringIO())
