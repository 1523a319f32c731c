"""Files that are kept elsewhere: brought to this machine when they are opened."""

from collections.abc import Callable
from pathlib import Path

Bring = Callable[[Path], None]

_how: list[Bring] = []


def brought_by(bring: Bring | None) -> None:
    """Let files be brought in a way from now on; None where all of them are here.

    Parameters
    ----------
    bring
        Takes the path where a file is to lie on this machine; what it does not know it leaves. It
        can be pickled, as processes apart take it over (`how`).
    """
    _how[:] = [] if bring is None else [bring]


def how() -> Bring | None:
    """In what way files are brought here, for a process that has just begun."""
    return _how[0] if _how else None


def present(path: Path) -> Path:
    """The same path, its file brought here where it is kept elsewhere."""
    for bring in _how:
        bring(path)
    return path
