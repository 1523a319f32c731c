"""The demo for tests, made once in a run by the first that asks for it, then copied.

Its sounds are checked and drawn once in a process.
"""

import fcntl
import io
import json
import os
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import Any
from unittest.mock import patch

from django.core.management import call_command

from metaphon.core.demo.mixes import write_demo
from metaphon.core.files.apart import read_apart
from metaphon.core.files.waveform import measure_peaks

_COMMAND = "metaphon.web.intake.management.commands.demo.write_demo"
_RECORDINGS = "metaphon.web.mixes.recordings"
_taken: dict[tuple[str, str], Any] = {}  # by what read it and the name of a recording
_drawn: dict[tuple[int, int], bytes] = {}  # by size and content
_FOLDER = "METAPHON_TEST_DEMO"  # where it lies, for all processes of the run
_NAMES = "names.json"  # of its documents, there when all is


@contextmanager
def shared_demo() -> Iterator[None]:
    """As long as this lasts the demo is made no more than once, in whatever process."""
    with tempfile.TemporaryDirectory() as folder:
        os.environ[_FOLDER] = folder
        yield


def demo_in(folder: Path) -> list[Path]:
    """The demo's documents with their audio, in a folder; as `write_demo`."""
    if _FOLDER not in os.environ:  # under another runner
        return write_demo(folder)
    shared = Path(os.environ[_FOLDER])
    made, names = shared / "made", shared / _NAMES
    with (shared / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not names.exists():
            names.write_text(json.dumps([document.name for document in write_demo(made)]))
    shutil.copytree(made, folder, dirs_exist_ok=True)
    return [folder / name for name in json.loads(names.read_text())]


def _read_once(work: Any, *arguments: Any, name: str, **more: Any) -> Any:
    """What a recording was found to be when it was first read; none of the demo is converted."""
    key = work.__name__, name
    if key not in _taken:
        _taken[key] = read_apart(work, *arguments, name=name, **more)
    return _taken[key]


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
