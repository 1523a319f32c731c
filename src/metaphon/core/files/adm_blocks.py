"""An object's path as the block formats of the Audio Definition Model.

Source: ITU-R BS.2076-2, section 5.4.3 (audioBlockFormat of objects). A block's position is reached
at its end, from that of the block before it; with jumpPosition it is taken at once, or over the
interpolationLength.
"""

import math
import re
from xml.etree import ElementTree

import numpy as np
from numpy.typing import NDArray

from metaphon.core.errors import InputError

# what a block says, by form: (coordinate or element, is a position)
_SPHERE = (
    ("azimuth", True),
    ("elevation", True),
    ("distance", True),
    ("width", False),
    ("height", False),
    ("depth", False),
)
_CUBE = (
    ("X", True),
    ("Y", True),
    ("Z", True),
    ("width", False),
    ("depth", False),
    ("height", False),
)
_FIRST_S = 0.00002  # a block that sets where the path begins
_TIME = re.compile(r"(\d{1,2}):(\d{2}):(\d{2}(?:\.\d+)?)(?:S(\d+))?$")
_MOST_BYTES = 20_000_000


def written(
    name: str,
    times_s: NDArray[np.float64],
    values: NDArray[np.float64],
    in_room: bool,
    end_s: float,
) -> str:
    """A path, (times) and (6, times) in the order of `FORMS`.

    As an audioChannelFormat with straight blocks.

    The last position is held until `end_s`.
    """
    root = ElementTree.Element(
        "audioChannelFormat",
        audioChannelFormatID="AC_00031001",
        audioChannelFormatName=name,
        typeDefinition="Objects",
        typeLabel="0003",
    )
    starts = [0.0, max(float(times_s[0]), _FIRST_S), *(float(t) for t in times_s[1:])]
    ends = [*starts[1:], max(end_s, starts[-1] + _FIRST_S)]
    # block k runs from starts[k] to ends[k] and reaches the next breakpoint; the last one holds
    reached = [0, *range(1, len(times_s)), len(times_s) - 1]
    for number, (start, end, column) in enumerate(zip(starts, ends, reached, strict=True), start=1):
        if end <= start:
            continue
        block = ElementTree.SubElement(
            root,
            "audioBlockFormat",
            audioBlockFormatID=f"AB_00031001_{number:08x}",
            rtime=_told(start),
            duration=_told(end - start),
        )
        ElementTree.SubElement(block, "cartesian").text = "1" if in_room else "0"
        for (word, is_position), value in zip(
            _CUBE if in_room else _SPHERE, values[:, column], strict=True
        ):
            if word == "azimuth":
                value = 180.0 - (180.0 - value) % 360.0
            if is_position:
                ElementTree.SubElement(block, "position", coordinate=word).text = f"{value:.5f}"
            else:
                ElementTree.SubElement(block, word).text = f"{value:.5f}"
        if number == 1:
            ElementTree.SubElement(block, "jumpPosition").text = "1"
    ElementTree.indent(root)
    return ElementTree.tostring(root, encoding="unicode", xml_declaration=True) + "\n"


def _told(seconds: float) -> str:
    whole, rest = divmod(round(seconds * 100000), 100000)
    return f"{whole // 3600:02d}:{whole // 60 % 60:02d}:{whole % 60:02d}.{rest:05d}"


def _seconds(text: str, what: str) -> float:
    match = _TIME.match(text.strip())
    if match is None:
        raise InputError(f"The block formats have the {what} {text!r}; write it as hh:mm:ss.zzzzz.")
    hours, minutes, rest, rate = match.groups()
    whole, _, fraction = rest.partition(".")
    part = float(f"0.{fraction or 0}") if rate is None else int(fraction or 0) / int(rate)
    return int(hours) * 3600 + int(minutes) * 60 + int(whole) + part


def read(text: str) -> tuple[bool, NDArray[np.float64], NDArray[np.float64]]:
    """The path in the first channel format of an XML text.

    Whether it is in the room, times and (6, times) values.

    Raises InputError for text that is not XML, holds no blocks of an object, or mixes both forms.
    """
    if len(text) > _MOST_BYTES or "<!DOCTYPE" in text or "<!ENTITY" in text:
        raise InputError(
            "This text cannot be read as block formats; bring plain XML without a document type."
        )
    try:
        # by the text as it is, whatever encoding it says it had
        parser = ElementTree.XMLParser(encoding="utf-8")
        root = ElementTree.fromstring(text.encode(), parser)
    except ElementTree.ParseError as error:
        raise InputError(f"This is not well-formed XML ({error}); export it again.") from None
    blocks = [e for e in root.iter() if e.tag.rsplit("}", 1)[-1] == "audioBlockFormat"]
    parent = (
        next((e for e in root.iter() if any(child is blocks[0] for child in e)), None)
        if blocks
        else None
    )
    if parent is not None:
        blocks = [e for e in parent if e.tag.rsplit("}", 1)[-1] == "audioBlockFormat"]
    if not blocks:
        raise InputError(
            "There is no audioBlockFormat in this text; bring the channel format of an object."
        )
    rooms = {_is_in_room(block) for block in blocks}
    if len(rooms) > 1:
        raise InputError("These blocks mix angles and room positions; bring one form.")
    in_room = rooms.pop()
    times: list[float] = []
    found: list[list[float]] = []
    for number, block in enumerate(blocks):
        start = _seconds(block.get("rtime", "00:00:00.00000"), "rtime")
        length = block.get("duration")
        end = start + _seconds(length, "duration") if length else start
        values = _values(block, in_room)
        jump = next((e for e in block if e.tag.rsplit("}", 1)[-1] == "jumpPosition"), None)
        if number == 0 or (jump is not None and (jump.text or "").strip() == "1"):
            over = _number(jump.get("interpolationLength", "0")) if jump is not None else 0.0
            if found:
                _add(times, found, start, found[-1])
            _add(times, found, start + over, values)
            if end > start + over:
                _add(times, found, end, values)
        else:
            if found and start > times[-1] + 1e-9:
                _add(times, found, start, found[-1])
            _add(times, found, end, values)
    return in_room, np.array(times), np.array(found).T


def _add(times: list[float], found: list[list[float]], time_s: float, values: list[float]) -> None:
    if times and time_s < times[-1]:
        raise InputError("These blocks are not in order of time; export them again.")
    times.append(time_s)
    found.append(values)


def _is_in_room(block: ElementTree.Element) -> bool:
    told = next((e.text for e in block if e.tag.rsplit("}", 1)[-1] == "cartesian"), None)
    if told is not None:
        return told.strip() == "1"
    return any(e.get("coordinate") in ("X", "Y", "Z") for e in block)


def _values(block: ElementTree.Element, in_room: bool) -> list[float]:
    found = dict.fromkeys((word for word, _ in (_CUBE if in_room else _SPHERE)), 0.0)
    if not in_room:
        found["distance"] = 1.0
    for element in block:
        word = element.get("coordinate") or element.tag.rsplit("}", 1)[-1]
        if word in found:
            found[word] = _number(element.text or "")
    return list(found.values())


def _number(text: str) -> float:
    try:
        value = float(text)
    except ValueError:
        value = math.nan
    if not math.isfinite(value):
        raise InputError(f"{text[:20]!r} in these blocks is not a number; export them again.")
    return value
