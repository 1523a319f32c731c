"""What a file says its channels are, and saying it: channel masks, and names in iXML.

Sources: the channel mask of WAVE_FORMAT_EXTENSIBLE (Multiple channel audio data and WAVE files,
2001; from memory) and of FLAC (RFC 9639, sections 8.6.2 and 9.1.3); iXML, an open chunk that
recorders and workstations share. A mask tells which loudspeakers there are, always in one order.
"""

import re
import shutil
import struct
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import BinaryIO
from xml.etree import ElementTree

import numpy as np
from numpy.typing import NDArray

from metaphon.core.errors import InputError
from metaphon.core.files.audio import ClipReader
from metaphon.core.files.wave_chunks import chunk
from metaphon.core.presence import present
from metaphon.core.spatial.layouts import LAYOUTS, Layout
from metaphon.core.spatial.recording_layout import recorded_as

# the bits of a mask in order, and what stands there in layouts with sides and rears
_BITS = [
    "M+030",
    "M-030",
    "M+000",
    "LFE1",
    "M+135",
    "M-135",
    "M+SC",
    "M-SC",
    "M+180",
    "M+090",
    "M-090",
    "T+000",
    "U+045",
    "U+000",
    "U-045",
    "U+135",
    "U+180",
    "U-135",
]
# layouts with one pair of surrounds: it may be called sides or rears, and heights stand above
_ONE_PAIR = {
    "M+135": "M+110",
    "M-135": "M-110",
    "M+090": "M+110",
    "M-090": "M-110",
    "U+045": "U+030",
    "U-045": "U-030",
    "U+135": "U+110",
    "U-135": "U-110",
}
_QUAD = {"M+030": "M+045", "M-030": "M-045"}
_QUAD_MASK = 0x33
# what FLAC means by a number of channels where no mask says otherwise
_FLAC_MASKS = {1: 0x4, 2: 0x3, 3: 0x7, 4: 0x33, 5: 0x37, 6: 0x3F, 7: 0x70F, 8: 0x63F}
_EXTENSIBLE = 0xFFFE
_PADDING, _COMMENTS = 1, 4  # kinds of blocks in FLAC
_MASK_KEY = b"WAVEFORMATEXTENSIBLE_CHANNEL_MASK="
# names that recorders and workstations give to channels (common practice, no source)
_NAMES = {
    "M+030": "l left fl frontleft",
    "M-030": "r right fr frontright",
    "M+000": "c center centre fc frontcenter",
    "LFE1": "lfe sub subwoofer lf",
    "LFE2": "lfe2",
    "M+110": "ls leftsurround",
    "M-110": "rs rightsurround",
    "M+090": "lss sl sideleft leftsidesurround",
    "M-090": "rss sr sideright rightsidesurround",
    "M+135": "lrs lsr bl backleft rearleft leftrearsurround",
    "M-135": "rrs rsr br backright rearright rightrearsurround",
    "M+180": "cs bc backcenter",
    "U+045": "ltf tfl topfrontleft lefttopfront",
    "U-045": "rtf tfr topfrontright righttopfront",
    "U+135": "ltr ltb tbl topbackleft lefttoprear",
    "U-135": "rtr rtb tbr topbackright righttoprear",
    "U+090": "lts ltm topsideleft",
    "U-090": "rts rtm topsideright",
    "T+000": "tc vog topcenter",
}
_LABEL_OF = {name: label for label, names in _NAMES.items() for name in names.split()}


def labels_of_mask(mask: int) -> tuple[str, ...]:
    """The loudspeakers that a mask names, in the order of the channels; empty for one unknown.

    Examples
    --------
    >>> labels_of_mask(0x3F)
    ('M+030', 'M-030', 'M+000', 'LFE1', 'M+110', 'M-110')
    >>> labels_of_mask(0x63F)
    ('M+030', 'M-030', 'M+000', 'LFE1', 'M+135', 'M-135', 'M+090', 'M-090')
    """
    if not mask or mask >> len(_BITS):
        return ()
    found = [label for bit, label in enumerate(_BITS) if mask >> bit & 1]
    if mask == _QUAD_MASK:
        return tuple(_QUAD.get(label, label) for label in found)
    if {"M+135", "M+090"} <= set(found):
        return tuple(found)
    return tuple(_ONE_PAIR.get(label, label) for label in found)


def mask_of(layout: Layout) -> tuple[int, tuple[int, ...]]:
    """The mask of a layout and the order of its channels in a file that has it.

    0, and its own order, where there is no such mask.
    """
    as_it_is = tuple(range(layout.channels))
    for mask in _MASKS:
        labels = labels_of_mask(mask)
        if set(labels) == set(layout.labels):
            return mask, tuple(layout.labels.index(label) for label in labels)
    return 0, as_it_is


_MASKS = (
    *(0x4, 0x3, 0x7, 0x33, 0x3F, 0x503F, 0x2D03F),  # mono to 5.1.4
    *(0x63F, 0x2D63F, 0x2D6FF),  # 7.1, 7.1.4, 9.1.4
)


def mask_in(path: Path) -> int:
    """The channel mask of a WAVE or FLAC file; 0 where it has none."""
    with present(path).open("rb") as file:
        head = file.read(4)
    if head == b"fLaC":
        return _flac_mask(path)
    content = chunk(path, b"fmt ") or b""
    if len(content) >= 24 and struct.unpack("<H", content[:2])[0] == _EXTENSIBLE:
        return int(struct.unpack("<I", content[20:24])[0])
    return 0


def _flac_mask(path: Path) -> int:
    channels = 0
    with path.open("rb") as file:
        for kind, content in _flac_blocks(file):
            if kind == 0 and len(content) >= 18:
                channels = (content[12] >> 1 & 7) + 1
            if kind == _COMMENTS and (at := content.upper().find(_MASK_KEY)) >= 0:
                found = re.match(rb"0x([0-9a-fA-F]+)", content[at + len(_MASK_KEY) :])
                return int(found[1], 16) if found else 0
    return _FLAC_MASKS.get(channels, 0)


def set_flac_mask(path: Path, mask: int) -> None:
    """Say in a FLAC file what its channels are, where that is not what their number says.

    The comments are written anew, with those that were there; the sound is copied as it is.
    """
    if mask_in(path) == mask:
        return
    fresh = path.with_name(f".{path.name}.comments")
    with path.open("rb") as file, fresh.open("wb") as into:
        blocks = [(kind, content) for kind, content in _flac_blocks(file)]
        comments = next((content for kind, content in blocks if kind == _COMMENTS), None)
        kept = [(kind, content) for kind, content in blocks if kind not in (_COMMENTS, _PADDING)]
        kept.append((_COMMENTS, _with_comment(comments, _MASK_KEY + f"0x{mask:X}".encode())))
        into.write(b"fLaC")
        for number, (kind, content) in enumerate(kept, start=1):
            last = 0x80 if number == len(kept) else 0
            into.write(bytes([kind | last]) + len(content).to_bytes(3, "big") + content)
        shutil.copyfileobj(file, into)
    fresh.replace(path)


def _flac_blocks(file: BinaryIO) -> Iterator[tuple[int, bytes]]:
    """The kind and content of each metadata block; the file is then at its first frame."""
    file.seek(4)
    while len(head := file.read(4)) == 4:
        yield head[0] & 0x7F, file.read(int.from_bytes(head[1:], "big"))
        if head[0] & 0x80:
            return


def _with_comment(content: bytes | None, comment: bytes) -> bytes:
    """The content of a comment block, with one more."""
    if content is None:
        return struct.pack("<III", 0, 1, len(comment)) + comment
    vendor = struct.unpack("<I", content[:4])[0]
    (count,) = struct.unpack("<I", content[4 + vendor : 8 + vendor])
    head = content[: 4 + vendor] + struct.pack("<I", count + 1)
    return head + content[8 + vendor :] + struct.pack("<I", len(comment)) + comment


def names_in(path: Path) -> list[str]:
    """The names that the iXML of a WAVE file gives to its channels; empty where it has none."""
    content = chunk(path, b"iXML")
    if content is None:
        return []
    try:
        root = ElementTree.fromstring(content.strip(b"\0 \r\n\t"))
    except ElementTree.ParseError:
        return []
    tracks = [
        (_number(one.findtext("INTERLEAVE_INDEX")), one.findtext("NAME") or "")
        for one in root.iter("TRACK")
    ]
    return [name for _, name in sorted(tracks, key=lambda one: one[0])]


def _number(text: str | None) -> int:
    return int(text) if text and text.strip().isdecimal() else 0


def labels_of_names(names: Sequence[str]) -> tuple[str, ...]:
    """The loudspeakers that names of channels mean; empty where one of them means none.

    Heights stand above the surrounds that a layout has.
    """
    found = []
    for name in names:
        plain = name.strip()
        words = plain.replace("(", " ").replace(")", " ").split()
        label = next((word for word in words if word in _EVERY_LABEL), None)
        found.append(label or _LABEL_OF.get("".join(c for c in plain.lower() if c.isalnum()), ""))
    if not all(found) or len(set(found)) < len(found):
        return ()
    if any(name.strip() in _EVERY_LABEL for name in names) or "M+110" not in found:
        return tuple(found)
    return tuple(_ONE_PAIR.get(label, label) if label[0] == "U" else label for label in found)


_EVERY_LABEL = {label for layout in LAYOUTS.values() for label in layout.labels}


def layout_told(path: Path, channels: int) -> str:
    """What a file says its channels are, as `recorded_as` reads it; empty where it does not say.

    By the names in its iXML, else by its mask.
    """
    for labels in (labels_of_names(names_in(path)), labels_of_mask(mask_in(path))):
        if len(labels) == channels:
            try:
                found = recorded_as(" ".join(labels))
            except InputError:
                continue
            return (
                found.layout.name
                if found.is_in_order and found.layout.name in LAYOUTS
                else " ".join(labels)
            )
    return ""


class LayoutReader(ClipReader):
    """Reads a file with its channels in the order of a layout, by what the file says of them."""

    def __init__(self, path: Path, layout: Layout | None) -> None:
        super().__init__(path)
        order = order_in(path, layout) if layout and layout.channels == self.channels else ()
        self._order = list(order) if order != tuple(range(len(order))) else []

    def read(self, first: int, frames: int) -> NDArray[np.float32]:
        """Samples [first, first + frames) as (channels, frames); first may be negative."""
        block = super().read(first, frames)
        return block[self._order] if self._order else block


def order_in(path: Path, layout: Layout) -> tuple[int, ...]:
    """For each channel of a layout the channel of a file that holds it, by what the file says."""
    told = layout_told(path, layout.channels)
    if told:
        found = recorded_as(told)
        if found.layout.labels == layout.labels:
            return found.order
    return tuple(range(layout.channels))
