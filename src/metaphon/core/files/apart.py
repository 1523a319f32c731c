"""Reading what somebody else has written: in a process of its own, with limits on memory and time.

What nobody thought of then costs that one file and one sentence.
"""

import logging
import multiprocessing
import resource
import time
from collections.abc import Callable
from contextlib import suppress
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any, TypeVar

from metaphon.core.errors import InputError

T = TypeVar("T")
MEMORY_BYTES = 3 << 30  # beside what a process has that has only begun
SECONDS = 60.0  # of work, and as much again for each so many bytes
_BYTES_A_SECOND = 1 << 20
_PATIENCE = 4.0  # times the seconds of work: a busy machine may take longer by the clock
_TELL_EVERY_S = 0.2

log = logging.getLogger(__name__)
_readers = multiprocessing.get_context("forkserver")
_readers.set_forkserver_preload([__name__, "metaphon.core.files.intake"])


def read_apart(
    work: Callable[..., T],
    *arguments: Any,
    path: Path,
    name: str,
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
    path, name
        The file that it reads, and what to call it in messages.
    progress
        Is told now and then how much is done, 0 to 1.
    memory_bytes, seconds
        What the work may take.

    Raises
    ------
    InputError
        As the work does, and in one sentence where it wants more than it may take or breaks down.
    """
    seconds = seconds or SECONDS + path.stat().st_size / _BYTES_A_SECOND
    here, there = _readers.Pipe(duplex=False)
    limits = memory_bytes, seconds
    process = _readers.Process(
        target=_work, args=(there, work, arguments, progress is not None, limits), daemon=True
    )
    process.start()
    there.close()
    ends = time.monotonic() + seconds * _PATIENCE
    try:
        while here.poll(max(ends - time.monotonic(), 0.0)):
            kind, value = here.recv()
            if kind == "done":
                return value  # type: ignore[no-any-return]
            if kind == "refused":
                raise InputError(value)
            if kind == "fault":
                log.error("reading %s: %s", name, value)
                break
            assert progress
            progress(value)
        else:  # stopped by the clock, where a busy machine gave it less than its seconds of work
            log.error("reading %s: no answer in time", name)
    except EOFError:
        log.error("reading %s: the process ended", name)
    finally:
        here.close()
        process.kill()
        process.join()
    raise InputError(
        f"{name} cannot be read with the memory and time that one file may take; export it again."
    )


def _work(
    pipe: Connection,
    work: Callable[..., Any],
    arguments: tuple[Any, ...],
    tells: bool,
    limits: tuple[int, float],
) -> None:
    memory, seconds = limits
    held = int(Path("/proc/self/statm").read_text().split()[0]) * resource.getpagesize()
    resource.setrlimit(resource.RLIMIT_AS, (held + memory, held + memory))
    resource.setrlimit(resource.RLIMIT_CPU, (int(seconds) + 1, int(seconds) + 2))
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
        except (Exception, MemoryError) as error:
            pipe.send(("fault", repr(error)))
