"""What the broadcast extension of a WAVE file says of when it was recorded.

Source: EBU Tech 3285, Specification of the Broadcast Wave Format, version 2.
"""

import os
import struct
from pathlib import Path

_TIME_REFERENCE = 338  # the place of its 64-bit count in the chunk


def time_reference_samples(path: Path) -> int | None:
    """The first sample of a file, counted from midnight at its own rate.

    None where the file has no broadcast extension, or where it says 0.
    """
    with path.open("rb") as file:
        head = file.read(12)
        if head[:4] not in (b"RIFF", b"RF64", b"BW64") or head[8:] != b"WAVE":
            return None
        while len(chunk := file.read(8)) == 8:
            kind, size = chunk[:4], struct.unpack("<I", chunk[4:])[0]
            if kind == b"bext":
                counted = file.read(size)[_TIME_REFERENCE : _TIME_REFERENCE + 8]
                return struct.unpack("<Q", counted)[0] or None if len(counted) == 8 else None
            if size == 0xFFFFFFFF:  # of a large file; the extension comes before its sound
                return None
            file.seek(size + size % 2, os.SEEK_CUR)
    return None
