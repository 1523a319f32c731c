"""The chunks of a WAVE file besides its sound: found, and added behind it.

Sources: ITU-R BS.2088-1 (BW64, `ds64`, `chna`, `axml`), EBU Tech 3306 (RF64).
"""

import os
import struct
from collections.abc import Iterator, Mapping
from pathlib import Path

from metaphon.core.errors import InputError
from metaphon.core.presence import present

_UNSAID = 0xFFFFFFFF  # the size stands in ds64
_MOST_BYTES = 512_000_000  # of a chunk that is read whole


def chunks(path: Path) -> Iterator[tuple[bytes, int, int]]:
    """Kind, place and size of each chunk of a WAVE file; nothing for another."""
    with present(path).open("rb") as file:
        head = file.read(12)
        if head[:4] not in (b"RIFF", b"RF64", b"BW64") or head[8:] != b"WAVE":
            return
        long: dict[bytes, int] = {}
        end = path.stat().st_size
        while len(found := file.read(8)) == 8:
            kind, size = found[:4], struct.unpack("<I", found[4:])[0]
            at = file.tell()
            if kind == b"ds64":
                long = _long_sizes(file.read(size))
            if size == _UNSAID:
                size = long.get(kind, end - at)
            yield kind, at, min(size, end - at)
            file.seek(at + size + size % 2, os.SEEK_SET)


def _long_sizes(content: bytes) -> dict[bytes, int]:
    """The sizes that a chunk `ds64` gives to chunks past 4 GiB."""
    if len(content) < 28:
        return {}
    found = {b"data": struct.unpack("<Q", content[8:16])[0]}
    (count,) = struct.unpack("<I", content[24:28])
    for n in range(min(count, (len(content) - 28) // 12)):
        kind, size = struct.unpack("<4sQ", content[28 + 12 * n : 40 + 12 * n])
        found[kind] = size
    return found


def chunk(path: Path, kind: bytes) -> bytes | None:
    """The content of a chunk; None where the file has none.

    Raises InputError where it is larger than any that is meant.
    """
    for name, at, size in chunks(path):
        if name == kind:
            if size > _MOST_BYTES:
                raise InputError(f"The chunk {kind.decode()} of {path.name} is too large to read.")
            with path.open("rb") as file:
                file.seek(at)
                return file.read(size)
    return None


def set_mask(path: Path, mask: int) -> None:
    """Say in the header of a WAVE file what its channels are; 0 says nothing."""
    for kind, at, size in chunks(path):
        if kind == b"fmt " and size >= 24:
            with path.open("r+b") as file:
                file.seek(at + 20)
                file.write(struct.pack("<I", mask))
            return


def add_chunks(path: Path, more: Mapping[bytes, bytes]) -> None:
    """Put chunks behind all others of a WAVE file, and say its new size.

    Past 4 GiB the sizes stand in `ds64`, for which `AudioWriter` leaves room; a file that says what
    its channels are is then called BW64.
    """
    with path.open("r+b") as file:
        file.seek(0, os.SEEK_END)
        if file.tell() % 2:
            file.write(b"\0")
        for kind, content in more.items():
            file.write(
                kind + struct.pack("<I", len(content)) + content + b"\0" * (len(content) % 2)
            )
        size = file.tell() - 8
        file.seek(0)
        if file.read(4) == b"RIFF" and size < _UNSAID:
            file.write(struct.pack("<I", size))
            return
    _set_long_sizes(path, size, b"BW64" if b"chna" in more else b"RF64")


def _set_long_sizes(path: Path, size: int, word: bytes) -> None:
    """Write the head of a file anew with `ds64` as its first chunk, its sound staying in place."""
    at, held = next((at, length) for kind, at, length in chunks(path) if kind == b"data")
    form = chunk(path, b"fmt ") or b""
    (frame_bytes,) = struct.unpack("<H", form[12:14])
    head = word + struct.pack("<I4s", _UNSAID, b"WAVE")
    head += struct.pack("<4sIQQQI", b"ds64", 28, size, held, held // frame_bytes, 0)
    head += struct.pack("<4sI", b"fmt ", len(form)) + form
    room = at - len(head) - 8
    if room >= 8:
        head += struct.pack("<4sI", b"JUNK", room - 8) + bytes(room - 8)
    with path.open("r+b") as file:
        file.write(head + struct.pack("<4sI", b"data", _UNSAID))
