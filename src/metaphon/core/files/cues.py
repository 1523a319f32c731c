"""Cues in a WAVE file: named places, in chunks `cue ` and `LIST adtl`.

Source: IBM and Microsoft, Multimedia Programming Interface and Data Specifications 1.0 (1991).
"""

import struct
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import NamedTuple

from metaphon.core.files.wave_chunks import chunks
from metaphon.core.foreign import reads_foreign

_POINT = struct.Struct("<II4sIII")
_LATEST = 0xFFFFFFFF
_MOST = 10_000
_MOST_BYTES = 4_000_000


class Cue(NamedTuple):
    """A place in frames from the first of a file, and what it is called."""

    frame: int
    name: str


def cue_chunks(cues: Sequence[Cue]) -> dict[bytes, bytes]:
    """The chunks that hold cues; none where there are none. What lies past 32 bits is left out."""
    held = [(number, cue) for number, cue in enumerate(cues, 1) if 0 <= cue.frame <= _LATEST]
    if not held:
        return {}
    points = [_POINT.pack(n, cue.frame, b"data", 0, 0, cue.frame) for n, cue in held]
    return {
        b"cue ": struct.pack("<I", len(points)) + b"".join(points),
        b"LIST": b"adtl" + b"".join(_label(n, cue.name) for n, cue in held),
    }


def _label(number: int, name: str) -> bytes:
    text = struct.pack("<I", number) + name.encode() + b"\0"
    return b"labl" + struct.pack("<I", len(text)) + text + b"\0" * (len(text) % 2)


@reads_foreign
def cues_of(path: Path) -> list[Cue]:
    """The cues of a WAVE file in order of time; none of another, or where they cannot be read."""
    places: dict[int, int] = {}
    names: dict[int, str] = {}
    for kind, at, size in chunks(path):
        if kind not in (b"cue ", b"LIST") or size > _MOST_BYTES:
            continue
        with path.open("rb") as file:
            file.seek(at)
            content = file.read(size)
        if kind == b"cue ":
            places |= dict(_places(content))
        elif content[:4] == b"adtl":
            names |= dict(_names(content[4:]))
    found = [Cue(frame, names.get(number, "")) for number, frame in places.items()]
    return sorted(found)


def _places(content: bytes) -> Iterator[tuple[int, int]]:
    for at in range(4, min(len(content), 4 + _MOST * _POINT.size) - _POINT.size + 1, _POINT.size):
        number, _, _, _, _, frame = _POINT.unpack_from(content, at)
        yield number, frame


def _names(content: bytes) -> Iterator[tuple[int, str]]:
    at = 0
    while at + 8 <= len(content):
        kind, size = struct.unpack_from("<4sI", content, at)
        text = content[at + 8 : at + 8 + size]
        if kind == b"labl" and len(text) >= 4:
            name = text[4:].split(b"\0", 1)[0]
            try:
                told = name.decode()
            except UnicodeDecodeError:
                told = name.decode("latin-1")
            yield struct.unpack("<I", text[:4])[0], told[:120]
        at += 8 + size + size % 2
