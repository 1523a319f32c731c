"""Recordings that have to be decoded, kept decoded: 32-bit samples, one channel after the other.

A part is kept when it is first read, so nothing is waited for and nothing decoded twice. The copies
lie in a folder of bounded size and may be thrown away at any time. They are of use until the
machine starts anew: only till then is it certain that what was written is there.
"""

import hashlib
import os
import stat
import tempfile
from contextlib import suppress
from itertools import count
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from metaphon.core.errors import InputError
from metaphon.core.files.audio import ClipReader

CHUNK = 16384  # frames that are decoded and kept at a time
_AHEAD = 8192  # frames that are read at a time where they are asked for in shorter stretches
_APART = 8  # readers, of which no two read or decode in the same stretch
_MOST_BYTES = 8 << 30  # of all copies, and no more than a part of what is free
_PART = 8
_PAGE = 4096
_readers = count()


def _folder() -> Path:
    """Where the copies lie: as METAPHON_WORKING_COPIES says, else among what is temporary."""
    named = os.environ.get("METAPHON_WORKING_COPIES")
    return Path(named) if named else Path(tempfile.gettempdir()) / f"metaphon-{os.getuid()}"


class WorkingReader:
    """Reads stretches of a file at any place as `ClipReader` does; what is costly only once.

    Raises InputError as it does.
    """

    def __init__(self, path: Path) -> None:
        self._reader = ClipReader(path)
        self._frames: int = self._reader.frames
        self._chunks = -(-self._frames // CHUNK)
        self._begin = -(-self._chunks // _PAGE) * _PAGE  # before it, a byte for each that is kept
        self._kept = bytearray(self._chunks)
        self._copy = None if self._reader.is_quick else self._opened(path)
        self._held_from = -1  # nothing yet
        self._held = np.zeros((self._reader.channels, 0), dtype=np.float32)
        self._early = next(_readers) % _APART / _APART

    def read(self, first: int, frames: int) -> NDArray[np.float32]:
        """Samples [first, first + frames) as (channels, frames); first may be negative."""
        if frames > _AHEAD // 2:
            return self._read(first, frames)
        at = first - self._held_from
        if at < 0 or at + frames > self._held.shape[1]:
            goes_on = at == self._held.shape[1]
            length = _AHEAD if goes_on else frames + round(_AHEAD * self._early)
            self._held_from, self._held, at = first, self._read(first, length), 0
            self._decode_early(first + length)
        return self._held[:, at : at + frames].copy()

    def _decode_early(self, reached: int) -> None:
        """Decode the part that is wanted next before it is, each reader at another time."""
        chunk = round(reached + CHUNK * self._early) // CHUNK
        if self._copy is not None and 0 <= chunk < self._chunks:
            with suppress(OSError, InputError):  # which is told where it is read
                self._keep(self._copy, chunk)

    def _read(self, first: int, frames: int) -> NDArray[np.float32]:
        start, stop = max(first, 0), min(first + frames, self._frames)
        if self._copy is None or start >= stop:
            return self._reader.read(first, frames)
        out = np.zeros((self._reader.channels, frames), dtype=np.float32)
        into = out[:, start - first : stop - first]
        try:
            for chunk in range(start // CHUNK, -(-stop // CHUNK)):
                self._keep(self._copy, chunk)
            for channel, sound in enumerate(into):
                if os.preadv(self._copy, [sound.data], self._place(channel, start)) < sound.nbytes:
                    raise OSError
        except OSError:  # the disk is full, or somebody has cut the copy: then without it
            self._let_go()
            return self._reader.read(first, frames)
        return out

    def _keep(self, copy: int, chunk: int) -> None:
        if self._kept[chunk]:
            return
        if os.pread(copy, 1, chunk) != b"\1":
            first = chunk * CHUNK
            part = self._reader.read(first, min(CHUNK, self._frames - first))
            for channel, sound in enumerate(part):
                os.pwrite(copy, sound.tobytes(), self._place(channel, first))
            os.pwrite(copy, b"\1", chunk)
        self._kept[chunk] = 1

    def _place(self, channel: int, frame: int) -> int:
        place: int = self._begin + 4 * (channel * self._frames + frame)
        return place

    def _opened(self, path: Path) -> int | None:
        """The copy of a file, open; None where none can be kept."""
        size = self._place(self._reader.channels, 0)
        with suppress(OSError):
            place = _folder()
            place.mkdir(mode=0o700, parents=True, exist_ok=True)
            known = place.lstat()
            if not stat.S_ISDIR(known.st_mode) or known.st_uid != os.getuid():
                return None
            copy = place / f"{_name(path)}.samples"
            if not copy.exists() and not _make_way(place, size):
                return None
            opened = os.open(copy, os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW, 0o600)
            os.utime(opened)  # what was used last goes last
            if os.fstat(opened).st_size < size:
                os.truncate(opened, size)
            return opened
        return None

    def _let_go(self) -> None:
        if self._copy is not None:
            os.close(self._copy)
            self._copy = None

    def close(self) -> None:
        """Let go of the files."""
        self._reader.close()
        self._let_go()


def _name(path: Path) -> str:
    """What says that a copy is of this file as it is now, and was made since the machine began."""
    known = path.stat()
    begun = Path("/proc/sys/kernel/random/boot_id").read_bytes()
    said = f"{path.resolve()}\0{known.st_size}\0{known.st_mtime_ns}\0".encode() + begun
    return hashlib.sha256(said).hexdigest()


def _make_way(place: Path, wanted: int) -> bool:
    """Throw away the copies used longest ago, until there is room; False where it is too much."""
    copies = []
    for one in place.glob("*.samples"):
        with suppress(FileNotFoundError):
            known = one.stat()
            copies.append((known.st_mtime, known.st_blocks * 512, one))
    held = sum(size for _, size, _ in copies)
    system = os.statvfs(place)
    most = min(_MOST_BYTES, (held + system.f_bavail * system.f_frsize) // _PART)
    if wanted > most // 4:
        return False
    for _, size, one in sorted(copies):
        if held + wanted <= most:
            break
        one.unlink(missing_ok=True)
        held -= size
    return True
