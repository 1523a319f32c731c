"""What the broadcast extension of a WAVE file says: when it was recorded, how loud it is.

Source: EBU Tech 3285, Specification of the Broadcast Wave Format, version 2. Names of channels by
iXML, an open chunk that recorders and workstations share.
"""

import os
import struct
from collections.abc import Sequence
from pathlib import Path
from xml.etree import ElementTree
from xml.etree.ElementTree import SubElement

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


def extension(
    description: str,
    time_reference: int,
    history: str,
    loudness: Sequence[float | None],
) -> bytes:
    """The content of a chunk `bext`, version 2.

    Parameters
    ----------
    description
        At most 256 characters; what is not ASCII is left out.
    time_reference
        The first sample, counted at the file's rate.
    history
        How it was made, a line.
    loudness
        Integrated loudness, loudness range, true peak, highest momentary and short-term loudness;
        what is None is said to be unknown.
    """
    figures = [0x7FFF if value is None else round(value * 100.0) for value in loudness]
    return (
        struct.pack(
            "<256s32s32s10s8sQH64s5h180s",
            _plain(description),
            _plain("Metaphon"),
            b"",
            b"",
            b"",
            max(time_reference, 0),
            2,
            b"",
            *(max(min(figure, 0x7FFF), -0x8000) for figure in figures),
            b"",
        )
        + _plain(history)
        + b"\r\n"
    )


def _plain(text: str) -> bytes:
    return text.encode("ascii", "ignore")


def channel_names(title: str, names: Sequence[str]) -> bytes:
    """The content of a chunk `iXML` that names the channels of a file."""
    root = ElementTree.Element("BWFXML")
    SubElement(root, "IXML_VERSION").text = "1.61"
    SubElement(root, "PROJECT").text = title
    tracks = SubElement(root, "TRACK_LIST")
    SubElement(tracks, "TRACK_COUNT").text = str(len(names))
    for number, name in enumerate(names, start=1):
        track = SubElement(tracks, "TRACK")
        SubElement(track, "CHANNEL_INDEX").text = str(number)
        SubElement(track, "INTERLEAVE_INDEX").text = str(number)
        SubElement(track, "NAME").text = name
    text = ElementTree.tostring(root, encoding="unicode")
    return b'<?xml version="1.0" encoding="UTF-8"?>' + text.encode()
