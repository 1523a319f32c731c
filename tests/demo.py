"""The demo for tests, made once in a run.

Its sounds are checked and drawn once in a process, then copied. The runner has it made beside the
test databases:  python -m tests.demo FOLDER
"""

import atexit
import io
import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
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
_taken: dict[str, Any] = {}  # by the name of a recording
_drawn: dict[tuple[int, int], bytes] = {}  # by size and content


_FOLDER = "METAPHON_TEST_DEMO"  # where it is made
_ALL = "all.json"  # the names of its documents, written when all is there
_LONGEST_S = 300.0


@contextmanager
def demo_is_made() -> Iterator[None]:
    """Begin to make the demo, on whatever core is free; it is there as long as this lasts."""
    with tempfile.TemporaryDirectory() as folder:
        os.environ[_FOLDER] = folder
        making = subprocess.Popen([sys.executable, "-m", "tests.demo", folder])
        try:
            yield
        finally:
            making.kill()
            making.wait()


def demo_in(folder: Path) -> list[Path]:
    """The demo's documents with their audio, in a folder; as `write_demo`."""
    if _FOLDER not in os.environ:  # under another runner
        alone = ExitStack()
        alone.enter_context(demo_is_made())
        atexit.register(alone.close)
    source = Path(os.environ[_FOLDER])
    until = time.monotonic() + _LONGEST_S
    while not (source / _ALL).exists():
        assert time.monotonic() < until, "the demo could not be made"
        time.sleep(0.05)
    shutil.copytree(source, folder, dirs_exist_ok=True)
    (folder / _ALL).unlink()
    return [folder / name for name in json.loads((source / _ALL).read_text())]


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


if __name__ == "__main__":
    made = Path(sys.argv[1])
    names = [document.name for document in write_demo(made)]
    (made / "begun").write_text(json.dumps(names))
    (made / "begun").rename(made / _ALL)  # whole, or not there
