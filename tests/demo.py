"""The demo for tests: its sounds are made, checked and drawn once in a process, then copied."""

import atexit
import io
import shutil
import tempfile
from contextlib import ExitStack
from functools import lru_cache
from pathlib import Path
from typing import Any
from unittest.mock import patch

from django.core.management import call_command

from metaphon.core.demo.mixes import write_demo
from metaphon.core.files.apart import read_apart
from metaphon.core.files.waveform import measure_peaks

_COMMAND = "metaphon.web.intake.management.commands.demo.write_demo"
_RECORDINGS = "metaphon.web.mixes.recordings"
_taken: dict[str, Any] = {}  # by the name of a recording
_drawn: dict[tuple[int, int], bytes] = {}  # by size and content


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


def _read_once(work: Any, *arguments: Any, name: str, **more: Any) -> Any:
    """What a recording was found to be when it was first read; none of the demo is converted."""
    if name not in _taken:
        _taken[name] = read_apart(work, *arguments, name=name, **more)
    return _taken[name]


def _drawn_once(recording: Path, peaks: Path) -> None:
    key = recording.stat().st_size, hash(recording.read_bytes())
    if key not in _drawn:
        measure_peaks(recording, peaks)
        _drawn[key] = peaks.read_bytes()
    peaks.write_bytes(_drawn[key])


def bring_in_demo() -> None:
    """The demo user and mixes in the database, by the application's own command."""
    with ExitStack() as stack:
        stack.enter_context(patch(_COMMAND, demo_in))
        stack.enter_context(patch(f"{_RECORDINGS}.read_apart", _read_once))
        stack.enter_context(patch(f"{_RECORDINGS}.measure_peaks", _drawn_once))
        call_command("demo", stdout=io.StringIO())
