"""What somebody else has written, and where it may be read.

It may be made to break its reader, so it is read in a process of its own (`core.files.apart`).
"""

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from functools import wraps
from typing import Any, TypeVar, cast

FOREIGN_READERS: dict[str, Callable[..., Any]] = {}
_serves_pages: ContextVar[bool] = ContextVar("serves_pages", default=False)
Reader = TypeVar("Reader", bound=Callable[..., Any])


def reads_foreign(reader: Reader) -> Reader:
    """Declare a function that reads what somebody else has written.

    Where pages are served it is called by `read_apart` alone; called directly there it raises
    RuntimeError. All of them are in FOREIGN_READERS, by module and name.
    """

    @wraps(reader)
    def guarded(*arguments: Any, **named: Any) -> Any:
        if _serves_pages.get():
            raise RuntimeError(f"{reader.__qualname__} reads what others wrote; use read_apart.")
        return reader(*arguments, **named)

    FOREIGN_READERS[f"{reader.__module__}.{reader.__qualname__}"] = guarded
    return cast(Reader, guarded)


@contextmanager
def serving_pages() -> Iterator[None]:
    """Refuse within it to read in this process what somebody else has written."""
    token = _serves_pages.set(True)
    try:
        yield
    finally:
        _serves_pages.reset(token)
