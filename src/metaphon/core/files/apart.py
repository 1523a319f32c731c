"""Reading what somebody else has written: in a process of its own, with limits on memory and time.

What nobody thought of then costs that one file and one sentence.
"""

import logging
import multiprocessing
import os
import resource
import signal
import time
from collections.abc import Callable
from contextlib import suppress
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any, TypeVar

from metaphon.core.errors import DISK_FULL, InputError, MachineBusy, disk_is_full
from metaphon.core.presence import Bring, brought_by, how, present

T = TypeVar("T")
MEMORY_BYTES = 3 << 30  # beside what a process has that has only begun
SECONDS = 60.0  # of work, and as much again for each so many bytes
TEXT_SECONDS = 15.0  # for a text that came with a request, which waits
_BYTES_A_SECOND = 1 << 20
_PATIENCE = 4.0  # times the seconds of work: a busy machine may take longer by the clock
_TELL_EVERY_S = 0.2

log = logging.getLogger(__name__)
_readers = multiprocessing.get_context("forkserver")
_readers.set_forkserver_preload(
    [
        __name__,
        "metaphon.core.files.intake",
        "metaphon.core.files.exchange_update",
        "metaphon.core.files.lane_table",
        "metaphon.core.adm.importing",
        "metaphon.core.adm.channel_text",
    ]
)


def read_apart(
    work: Callable[..., T],
    *arguments: Any,
    name: str,
    path: Path | None = None,
    progress: Callable[[float], None] | None = None,
    memory_bytes: int = MEMORY_BYTES,
    seconds: float | None = None,
) -> T:
    """Do work on a file where it can do no harm.

    Parameters
    ----------
    work
        A function of a module; where there is `progress`, it takes one too, as its last argument.
    arguments
        Of the work; they and the result must be such as can be pickled.
    name
        What to call the file in messages.
    path
        The file that it reads, where it is not given as text.
    progress
        Is told now and then how much is done, 0 to 1.
    memory_bytes, seconds
        What the work may take.

    Raises
    ------
    InputError
        As the work does, and in one sentence where it wants more than it may take or breaks down;
        MachineBusy where it was the machine that gave it too little.
    """
    if seconds is None:
        seconds = SECONDS if path else TEXT_SECONDS
        seconds += present(path).stat().st_size / _BYTES_A_SECOND if path else 0.0
    try:
        return work_apart(work, *arguments, progress=progress, limits=(memory_bytes, seconds))
    except TooMuch as error:
        log.error("reading %s: %s", name, error)
    except MachineBusy:
        raise MachineBusy(f"The machine is too busy to read {name}; try it again later.") from None
    raise InputError(
        f"{name} cannot be read with the memory and time that one file may take; export it again."
    )


class TooMuch(Exception):
    """Work apart took more than it may, or broke down; says how."""


def work_apart(
    work: Callable[..., T],
    *arguments: Any,
    limits: tuple[int, float],
    progress: Callable[[float], None] | None = None,
    stands_back: int = 0,
) -> T:
    """Do work in a process of its own, as `read_apart` does for files.

    Parameters
    ----------
    work, arguments, progress
        As there.
    limits
        The bytes of memory and the seconds of work that it may take.
    stands_back
        By how much it lets others go before it (nice).

    Raises
    ------
    InputError
        As the work does.
    TooMuch
        Where it wants more than it may take, or breaks down.
    MachineBusy
        Where it was given less than that, or ended by a machine that is short of memory.
    """
    here, there = _readers.Pipe(duplex=False)
    process = _readers.Process(
        target=_work,
        args=(there, work, arguments, progress is not None, limits, stands_back, how()),
        daemon=True,
    )
    process.start()
    there.close()
    ends = time.monotonic() + limits[1] * _PATIENCE
    try:
        while here.poll(max(ends - time.monotonic(), 0.0)):
            kind, value = here.recv()
            if kind == "done":
                return value  # type: ignore[no-any-return]
            if kind == "refused":
                raise InputError(value)
            if kind == "fault":
                raise TooMuch(value)
            assert progress
            progress(value)
        if _worked_s(process.pid) < limits[1]:
            raise MachineBusy("This machine is too busy; try again later.")
        raise TooMuch("no answer in time")
    except EOFError:
        process.join()
        if process.exitcode == -signal.SIGKILL:  # by the system; limits end it in other ways
            raise MachineBusy("This machine is short of memory; try again later.") from None
        raise TooMuch("the process ended") from None
    finally:
        here.close()
        process.kill()
        process.join()


def _worked_s(pid: int | None) -> float:
    """How many seconds a process has worked; 0 where it is gone."""
    with suppress(OSError):
        fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
        return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")
    return 0.0


def _work(
    pipe: Connection,
    work: Callable[..., Any],
    arguments: tuple[Any, ...],
    tells: bool,
    limits: tuple[int, float],
    stands_back: int,
    bring: Bring | None,
) -> None:
    memory, seconds = limits
    brought_by(bring)
    os.nice(stands_back)
    held = int(Path("/proc/self/statm").read_text().split()[0]) * resource.getpagesize()
    resource.setrlimit(resource.RLIMIT_AS, (held + memory, held + memory))
    resource.setrlimit(resource.RLIMIT_CPU, (int(seconds) + 1, int(seconds) + 60))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    told = 0.0

    def tell(done: float) -> None:
        nonlocal told
        if time.monotonic() - told >= _TELL_EVERY_S:
            told = time.monotonic()
            pipe.send(("progress", done))

    with suppress(BrokenPipeError):
        try:
            pipe.send(("done", work(*arguments, *((tell,) if tells else ()))))
        except InputError as error:
            pipe.send(("refused", str(error)))
        except OSError as error:
            full = disk_is_full(error)
            pipe.send(("refused", DISK_FULL) if full else ("fault", repr(error)))
        except (Exception, MemoryError) as error:
            pipe.send(("fault", repr(error)))
