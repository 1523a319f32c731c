"""Audio definitions from elsewhere, read tolerantly: what is not understood is told and left out.

Sources: ITU-R BS.2076-2, ITU-R BS.2088-1; common definitions by ITU-R BS.2094 (from memory).
"""

import math
import re
import struct
from dataclasses import dataclass, replace
from typing import Any
from xml.etree import ElementTree
from xml.etree.ElementTree import Element as Xml

import numpy as np

from metaphon.core.adm.model import Definition, Element, Loudness, Loudspeaker, Path, Programme
from metaphon.core.adm.scene_norms import to_sn3d
from metaphon.core.adm.writing import COORDINATES, ZONE_ANGLES, ZONE_PLACES
from metaphon.core.document.alternatives import Varied
from metaphon.core.document.value_paths import within
from metaphon.core.errors import InputError
from metaphon.core.spatial.ambisonics import order_of
from metaphon.core.spatial.layouts import LOUDSPEAKERS
from metaphon.core.spatial.room_cube import OUT_IN_ROOM_DEG
from metaphon.core.spatial.zones import Zone

_MOST_BYTES = 200_000_000
_TIME = re.compile(r"(\d{1,2}):(\d{2}):(\d{2}(?:\.\d+)?)(?:S(\d+))?$")
# channels of common definitions that need no text: the last four digits of AC_0001xxxx
_COMMON = {
    0x1: "M+030",
    0x2: "M-030",
    0x3: "M+000",
    0x4: "LFE1",
    0x5: "M+110",
    0x6: "M-110",
    0x7: "M+SC",
    0x8: "M-SC",
    0x9: "M+180",
    0xA: "M+090",
    0xB: "M-090",
    0xC: "T+000",
    0xD: "U+030",
    0xE: "U+000",
    0xF: "U-030",
    0x10: "U+110",
    0x11: "U+180",
    0x12: "U-110",
    0x13: "U+090",
    0x14: "U-090",
    0x15: "B+000",
    0x16: "B+045",
    0x17: "B-045",
    0x18: "M+060",
    0x19: "M-060",
    0x1C: "M+135",
    0x1D: "M-135",
    0x1E: "U+135",
    0x1F: "U-135",
    0x20: "LFE1",
    0x21: "LFE2",
    0x22: "U+045",
    0x23: "U-045",
}
_URN = re.compile(r"urn:itu:bs:2051:\d+:speaker:")
# the fields of a range that a listener may go in
_GAIN_BOUNDS = {False: "least_db", True: "most_db"}
_LOW_HZ = 250.0
# what is read of an object and of its blocks; anything else is said to be left out
_READ_OF_OBJECTS = {
    "audioObjectIDRef",
    "audioPackFormatIDRef",
    "audioTrackUIDRef",
    "audioComplementaryObjectIDRef",
    "audioObjectInteraction",
    "alternativeValueSet",
    "gain",
    "mute",
    "positionOffset",
    "audioObjectLabel",
    "audioComplementaryObjectGroupLabel",
}
_READ_OF_BLOCKS = {
    "position",
    "gain",
    "cartesian",
    "width",
    "height",
    "depth",
    "diffuse",
    "objectDivergence",
    "channelLock",
    "zoneExclusion",
    "jumpPosition",
    "speakerLabel",
    "frequency",
    "order",
    "degree",
    "normalization",
    "importance",
    "X",
    "Y",
    "Z",
    "nfcRefDist",
}
_PLAIN_AT = {"headLocked": ("0", ""), "screenRef": ("0", ""), "headphoneVirtualise": ("",)}
_SAME = {"LFE": "LFE1", "LFEL": "LFE1", "LFER": "LFE2", "RC_LFE": "LFE1"}


@dataclass(frozen=True)
class TrackRow:
    """A row of the chunk `chna`: which channel of the file, from 0 on, is which track."""

    channel: int
    uid: str
    track: str
    pack: str


def rows_of(chunk: bytes) -> list[TrackRow]:
    """The rows of a chunk `chna`. Raises InputError where it is cut short."""
    if len(chunk) < 4:
        raise InputError("The table of channels (chna) of this file is damaged; export it again.")
    _, count = struct.unpack("<HH", chunk[:4])
    if len(chunk) < 4 + 40 * count:
        raise InputError("The table of channels (chna) of this file is damaged; export it again.")
    found = []
    for n in range(count):
        index, *texts = struct.unpack("<H12s14s11sx", chunk[4 + 40 * n : 44 + 40 * n])
        uid, track, pack = (text.split(b"\0")[0].decode("ascii", "replace") for text in texts)
        if index:
            found.append(TrackRow(index - 1, uid, track, pack))
    return found


def parsed(text: str) -> Xml:
    """The root of an XML text. Raises InputError for what is none, or declares a document type."""
    if len(text) > _MOST_BYTES or "<!DOCTYPE" in text or "<!ENTITY" in text:
        raise InputError(
            "This text cannot be read as an audio definition; bring plain XML without a document "
            "type."
        )
    try:
        # by the text as it is, whatever encoding it says it had
        return ElementTree.fromstring(text.encode(), ElementTree.XMLParser(encoding="utf-8"))
    except ElementTree.ParseError as error:
        raise InputError(f"This is not well-formed XML ({error}); export it again.") from None


def from_xml(text: str, rows: list[TrackRow], channels: int) -> Definition:
    """What a file holds, by its chunks `axml` and `chna`.

    Raises
    ------
    InputError
        Where the text is no XML, or says nothing of any channel.
    """
    return _Reader(parsed(text), rows, channels).definition()


def local(element: Xml) -> str:
    """The name of an element without its namespace."""
    return element.tag.rsplit("}", 1)[-1]


def children(element: Xml, name: str) -> list[Xml]:
    """The elements of a name right below one."""
    return [child for child in element if local(child) == name]


class _Reader:
    def __init__(self, root: Xml, rows: list[TrackRow], channels: int) -> None:
        self._notes: list[str] = []
        self._by_id: dict[str, Xml] = {}
        self._kinds: dict[str, list[Xml]] = {}
        for element in root.iter():
            self._kinds.setdefault(local(element), []).append(element)
            for name, value in element.attrib.items():
                if name == "UID" or name.endswith("ID"):
                    self._by_id.setdefault(_plain_id(value), element)
        rows = [
            TrackRow(row.channel, *map(_plain_id, (row.uid, row.track, row.pack))) for row in rows
        ]
        self._rows = {row.uid: row for row in rows if row.channel < channels}
        self._above: dict[int, _Above] = {}  # what an object has of those that it is within
        missing = sum(row.channel >= channels for row in rows)
        if missing:
            self._say(f"{missing} tracks are said to be on channels that the file has not.")

    def _say(self, note: str) -> None:
        if note not in self._notes:
            self._notes.append(note)

    def definition(self) -> Definition:
        told = self._kinds.get("audioProgramme", [])
        objects: list[Xml] = []
        holders: list[Xml | None] = [*told] or [None]
        for holder in holders:
            objects += [found for found in self._objects_of(holder) if found not in objects]
        elements: list[Element] = []
        places: dict[str, list[int]] = {}  # of the elements that an object became
        for one in objects:
            found = self._elements(one)
            identifier = _plain_id(one.get("audioObjectID", ""))
            places[identifier] = list(range(len(elements), len(elements) + len(found)))
            elements += found
        if not objects:  # no objects at all: each row of the table stands for itself
            elements = self._without_objects()
        if not elements:
            raise InputError("This file defines no sound that can be brought in; export it again.")
        main = told[0] if told else None
        end_s = _seconds(main.get("end", ""), 0.0) if main is not None else 0.0
        programmes = [self._programme(one, places, len(elements)) for one in told]
        return Definition(
            tuple(programmes) or (Programme("Untitled"),),
            tuple(elements),
            end_s,
            tuple(self._notes),
        )

    def _programme(self, one: Xml, places: dict[str, list[int]], count: int) -> Programme:
        """A programme: which elements it has, and what some are turned up by in it."""
        heard: set[int] = set()
        gains: dict[int, float] = {}
        chosen = {_id_in(child) for child in children(one, "alternativeValueSetIDRef")}
        for found in self._objects_of(one):
            own = places.get(_plain_id(found.get("audioObjectID", "")), [])
            heard |= set(own)
            for values in children(found, "alternativeValueSet"):
                if _plain_id(values.get("alternativeValueSetID", "")) not in chosen:
                    continue
                if any(local(child) != "gain" for child in values):
                    name = found.get("audioObjectName")
                    self._say(f"{name}: of its alternative values only the gain is taken.")
                gains |= dict.fromkeys(own, _gain_db(values) - _gain_db(found))
        return Programme(
            one.get("audioProgrammeName") or "Untitled",
            one.get("audioProgrammeLanguage") or "",
            _loudness_of(one),
            frozenset(range(count)) - heard if places else frozenset(),
            {n: gain_db for n, gain_db in gains.items() if gain_db},
        )

    def _objects_of(self, programme: Xml | None) -> list[Xml]:
        """The objects of a programme, those within others too; all of them where it names none."""
        if programme is None:
            found = self._kinds.get("audioObject", [])
        else:
            contents = self._named(programme, "audioContentIDRef")
            found = [one for c in contents for one in self._named(c, "audioObjectIDRef")]
        whole: list[Xml] = []
        waiting = list(found)
        while waiting:
            one = waiting.pop(0)
            if one not in whole:
                whole.append(one)
                inner = self._named(one, "audioObjectIDRef")
                for each in inner:
                    self._above[id(each)] = self._above_of(one).joined(_Above.of(one))
                waiting = [*inner, *waiting]
        return whole

    def _above_of(self, one: Xml) -> "_Above":
        return self._above.get(id(one), _Above())

    def _named(self, element: Xml, reference: str) -> list[Xml]:
        texts = [_id_in(child) for child in children(element, reference)]
        unknown = [text for text in texts if text not in self._by_id]
        if unknown and reference not in ("audioTrackUIDRef",):
            self._say(f"{len(unknown)} references lead nowhere, such as {unknown[0]}.")
        return [self._by_id[text] for text in texts if text in self._by_id]

    def _elements(self, one: Xml) -> list[Element]:
        """What an object is: one element for each of its packs."""
        name = one.get("audioObjectName") or "Object"
        uids = [_id_in(child) for child in children(one, "audioTrackUIDRef")]
        rows = [self._rows[uid] for uid in uids if uid in self._rows]
        silent = [uid for uid in uids if uid not in self._rows and uid != "ATU_00000000"]
        if silent:
            self._say(f"{name}: {len(silent)} of its tracks are on no channel of the file.")
        packs: dict[str, list[TrackRow]] = {}
        for row in rows:
            packs.setdefault(row.pack or self._pack_of(one), []).append(row)
        found = [self._element(one, name, pack, own) for pack, own in packs.items()]
        return [element for element in found if element]

    def _varied(self, one: Xml, name: str) -> Varied | None:
        """What a listener may change of an object."""
        found: dict[str, Any] = {}
        for told in children(one, "audioObjectInteraction")[:1]:
            found["switched"] = told.get("onOffInteract") == "1"
            if told.get("gainInteract") == "1":
                found |= {
                    field: within(Varied.model_fields[field], _db(each))
                    for each in children(told, "gainInteractionRange")
                    for field in [_GAIN_BOUNDS[each.get("bound") == "max"]]
                }
            if told.get("positionInteract") == "1":
                for each in children(told, "positionInteractionRange"):
                    field = f"{each.get('coordinate')}_deg"
                    if field not in ("azimuth_deg", "elevation_deg"):
                        self._say(f"{name}: a listener may move it in a way that is not read.")
                        continue
                    value = within(Varied.model_fields[field], abs(_number(each.text, 0.0)))
                    found[field] = max(found.get(field, 0.0), value)
        others = [_id_in(child) for child in children(one, "audioComplementaryObjectIDRef")]
        if others:
            found["choice"] = min(_plain_id(one.get("audioObjectID", "")), *others)
            found["switched"] = False
        return Varied(strip="element", **found) if any(found.values()) else None

    def _pack_of(self, one: Xml) -> str:
        refs = children(one, "audioPackFormatIDRef")
        return _id_in(refs[0]) if refs else ""

    def _without_objects(self) -> list[Element]:
        packs: dict[str, list[TrackRow]] = {}
        for row in self._rows.values():
            packs.setdefault(row.pack, []).append(row)
        nothing = Xml("audioObject")
        found = [self._element(nothing, pack, pack, rows) for pack, rows in packs.items()]
        return [element for element in found if element]

    def _element(self, one: Xml, name: str, pack_id: str, rows: list[TrackRow]) -> Element | None:
        pack = self._by_id.get(pack_id)
        channels = [self._channel_of(row, pack) for row in rows]
        kind = _kind(pack, pack_id)
        above = self._above_of(one).joined(_Above.of(one))
        more: dict[str, Any] = {
            "importance": round(_number(one.get("importance"), 10.0)),
            "gain_db": max(above.gain_db, -120.0),
            "start_s": _seconds(one.get("start", ""), 0.0),
            "duration_s": _seconds(one.get("duration", ""), 0.0) or None,
            "varied": self._varied(one, name),
        }
        self._note_unread(name, one, channels)
        if above.is_muted:
            self._say(f"{name} is muted in the file; it is brought in at rest.")
            more["gain_db"] = -120.0
        places = tuple(row.channel for row in rows)
        if kind == "bed":
            speakers = tuple(self._loudspeaker(name, c) for c in channels)
            gains = self._channel_gains(name, channels)
            return Element(name, "bed", places, speakers, channel_gains=gains, **more)
        if kind == "scene":
            return self._scene(name, channels, places, pack, more)
        if kind == "object":
            paths = tuple(above.moved(path_of(c.format)) for c in channels if c.format is not None)
            if len(paths) < len(places):
                self._say(f"{name}: a channel of it is not defined; it is left out.")
                return None
            first = channels[0].format
            assert first is not None
            if zones := _unknown_zones(first):
                self._say(f"{name}: {zones} zones that it keeps out of are not honoured.")
            return Element(name, "object", places, (), paths, **more, **_rest(first))
        self._say(f"{name}: its kind ({pack_id or 'not told'}) is not understood; it is left out.")
        return None

    def _channel_gains(self, name: str, channels: "list[_Channel]") -> tuple[float, ...]:
        """The gains of the channels of a bed or scene, amplitudes; empty where all are 1."""
        found = []
        for channel in channels:
            blocks = (
                children(channel.format, "audioBlockFormat") if channel.format is not None else []
            )
            gains = [_amplitude(block) for block in blocks] or [1.0]
            if len(set(gains)) > 1:
                self._say(f"{name}: the gain of a channel changes in time; its first is taken.")
            found.append(gains[0])
        return tuple(found) if any(gain != 1.0 for gain in found) else ()

    def _note_unread(self, name: str, one: Xml, channels: "list[_Channel]") -> None:
        """Say by name what is there and is not honoured."""
        told = {local(child) for child in one} - _READ_OF_OBJECTS
        for channel in channels:
            if channel.format is None:
                continue
            for block in children(channel.format, "audioBlockFormat"):
                for child in block:
                    word = local(child)
                    if word in _PLAIN_AT and (child.text or "").strip() in _PLAIN_AT[word]:
                        continue
                    if word not in _READ_OF_BLOCKS:
                        told.add(word)
        for word in sorted(told):
            self._say(f"{name}: {word} is not honoured.")

    def _channel_of(self, row: TrackRow, pack: Xml | None) -> "_Channel":
        """The channel format that a row leads to: straight, by its UID, or by stream and track."""
        uid = self._by_id.get(row.uid)
        for holder in (uid, self._by_id.get(row.track)):
            seen: list[Xml] = [] if holder is None else [holder]
            for _ in range(4):
                for one in list(seen):
                    if local(one) == "audioChannelFormat":
                        return _Channel(one.get("audioChannelFormatID", ""), one)
                    for reference in ("audioChannelFormatIDRef", "audioTrackFormatIDRef"):
                        seen += self._led_to(one, reference)
                    seen += self._led_to(one, "audioStreamFormatIDRef")
        straight = row.track.removesuffix("_00").removesuffix("_01")
        for identifier in (straight, straight.replace("AT_", "AC_")):
            if identifier in self._by_id:
                return _Channel(identifier, self._by_id[identifier])
        return _Channel(straight.replace("AT_", "AC_"), None)

    def _led_to(self, element: Xml, reference: str) -> list[Xml]:
        texts = map(_id_in, children(element, reference))
        return [self._by_id[text] for text in texts if text in self._by_id]

    def _loudspeaker(self, name: str, channel: "_Channel") -> Loudspeaker:
        label, azimuth, elevation = "", None, None
        if channel.format is not None:
            for block in children(channel.format, "audioBlockFormat")[:1]:
                labels = [(c.text or "").strip() for c in children(block, "speakerLabel")]
                label = _URN.sub("", labels[0]) if labels else ""
                where = {p.get("coordinate"): p.text for p in children(block, "position")}
                azimuth = _number(where.get("azimuth"), math.nan)
                elevation = _number(where.get("elevation"), math.nan)
            if label not in LOUDSPEAKERS and _is_low(channel.format):
                label = "LFE2" if azimuth is not None and azimuth < 0.0 else "LFE1"
        label = _SAME.get(label, label)
        if label not in LOUDSPEAKERS and channel.number in _COMMON and channel.is_common:
            label = _COMMON[channel.number]
        if label in LOUDSPEAKERS:
            known = LOUDSPEAKERS[label]
            azimuth = known[0] if azimuth is None or math.isnan(azimuth) else azimuth
            elevation = known[1] if elevation is None or math.isnan(elevation) else elevation
        if azimuth is None or elevation is None or math.isnan(azimuth) or math.isnan(elevation):
            self._say(f"{name}: it is not said where a loudspeaker stands; it is put in front.")
            azimuth, elevation = 0.0, 0.0
        return Loudspeaker(label, float(azimuth), float(elevation))

    def _scene(
        self,
        name: str,
        channels: "list[_Channel]",
        places: tuple[int, ...],
        pack: Xml | None,
        more: dict[str, Any],
    ) -> Element | None:
        numbers = []
        for channel in channels:
            blocks = (
                children(channel.format, "audioBlockFormat") if channel.format is not None else []
            )
            said = {local(child): (child.text or "").strip() for b in blocks[:1] for child in b}
            if "order" in said and "degree" in said:
                order, degree = int(_number(said["order"], 0)), int(_number(said["degree"], 0))
                numbers.append(order * order + order + degree)
            elif channel.is_common:
                numbers.append(channel.number - 1)
            norm = said.get("normalization") or _text(pack, "normalization") or "SN3D"
            for word in ("nfcRefDist", "screenRef"):
                text = said.get(word) or _text(pack, word)
                if text and _number(text, 0.0):
                    self._say(f"{name}: {word} {text} is not honoured.")
        if sorted(numbers) != list(range(len(places))) or int(len(places) ** 0.5) ** 2 != len(
            places
        ):
            self._say(f"{name}: its scene is not whole; it is left out.")
            return None
        scale = to_sn3d(norm, len(places))
        if scale is None:
            self._say(f"{name}: its scene is in {norm}, which is not known; it is left out.")
            return None
        if norm not in ("SN3D", ""):
            self._say(f"{name}: its scene was in {norm} and is brought in as SN3D.")
        gains = self._channel_gains(name, channels) or (1.0,) * len(places)
        inorder = sorted(zip(numbers, places, gains, strict=True))
        scaled = tuple(float(gain * scale[n]) for n, (_, _, gain) in enumerate(inorder))
        own = scaled if any(gain != 1.0 for gain in scaled) else ()
        order = order_of(len(places))
        found = tuple(place for _, place, _ in inorder)
        return Element(name, "scene", found, order=order, channel_gains=own, **more)


@dataclass(frozen=True)
class _Above:
    """What an object has of its own or of those that it is within: gain, mute and offset."""

    gain_db: float = 0.0
    is_muted: bool = False
    offset: tuple[tuple[str, float], ...] = ()

    @classmethod
    def of(cls, one: Xml) -> "_Above":
        """What one object says."""
        muted = any((mute.text or "").strip() == "1" for mute in children(one, "mute"))
        offset = tuple(
            (each.get("coordinate", ""), _number(each.text, 0.0))
            for each in children(one, "positionOffset")
        )
        return cls(_gain_db(one), muted, offset)

    def joined(self, other: "_Above") -> "_Above":
        """Both, one within the other."""
        return _Above(
            self.gain_db + other.gain_db,
            self.is_muted or other.is_muted,
            (*self.offset, *other.offset),
        )

    def moved(self, path: Path) -> Path:
        """A path moved by the offsets."""
        values = path.values.copy()
        for coordinate, by in self.offset:
            if coordinate in COORDINATES[path.in_room][:3]:
                values[COORDINATES[path.in_room].index(coordinate)] += by
        if not path.in_room:
            values[1] = np.clip(values[1], -90.0, 90.0)
        return replace(path, values=values)


@dataclass(frozen=True)
class _Channel:
    """A channel format, by its identifier, and its text where there is one."""

    identifier: str
    format: Xml | None

    @property
    def number(self) -> int:
        """The last four digits of its identifier."""
        match = re.fullmatch(r"AC_[0-9A-F]{4}([0-9A-F]{4})", self.identifier)
        return int(match[1], 16) if match else -1

    @property
    def is_common(self) -> bool:
        """Whether it is one of the common definitions."""
        return 0 < self.number < 0x1000


def _kind(pack: Xml | None, identifier: str) -> str:
    label = (pack.get("typeLabel") if pack is not None else None) or identifier[3:7]
    word = pack.get("typeDefinition", "") if pack is not None else ""
    kinds = {"0001": "bed", "0003": "object", "0004": "scene", "0005": "bed"}
    words = {"DirectSpeakers": "bed", "Objects": "object", "HOA": "scene", "Binaural": "bed"}
    return kinds.get(label) or words.get(word) or ""


def path_of(channel: Xml) -> Path:
    """The way of an object by its blocks.

    A position is reached at the end of its block, from that of the block before; with jumpPosition
    it is taken at once, or over the interpolationLength.

    Raises
    ------
    InputError
        For no blocks, both forms at once, times out of order, or what is no number.
    """
    blocks = children(channel, "audioBlockFormat")
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

    def add(time_s: float, values: list[float]) -> None:
        if times and time_s < times[-1] - 1e-9:
            raise InputError("These blocks are not in order of time; export them again.")
        times.append(time_s)
        found.append(values)

    for number, block in enumerate(blocks):
        start = _seconds(block.get("rtime", ""), 0.0, "rtime")
        length = block.get("duration")
        end = start + _seconds(length, 0.0, "duration") if length else start
        values = _values(block, in_room)
        jump = next(iter(children(block, "jumpPosition")), None)
        if number == 0 or (jump is not None and (jump.text or "").strip() == "1"):
            over = _checked(jump.get("interpolationLength", "0")) if jump is not None else 0.0
            if found:
                add(start, found[-1])
            add(start + over, values)
        elif found and start > times[-1] + 1e-9:
            add(start, found[-1])
        if end > times[-1] + 1e-9:
            add(end, values)
    columns = np.array(found).T
    return Path(in_room, np.array(times), columns[:6], *columns[6:9])


def _is_in_room(block: Xml) -> bool:
    told = _text(block, "cartesian")
    if told:
        return told == "1"
    return any(e.get("coordinate") in ("X", "Y", "Z") for e in block)


def _values(block: Xml, in_room: bool) -> list[float]:
    """The six values of a position, divergence, diffuseness and gain."""
    found = dict.fromkeys((*COORDINATES[in_room], "objectDivergence", "diffuse"), 0.0)
    if not in_room:
        found["distance"] = 1.0
    for element in block:
        word = element.get("coordinate") or local(element)
        if word in found:
            found[word] = _checked(element.text or "")
    words = (*COORDINATES[in_room], "objectDivergence", "diffuse")
    return [*(found[word] for word in words), _amplitude(block)]


def _rest(channel: Xml) -> dict[str, Any]:
    """What the first block says and this model holds for good."""
    block = children(channel, "audioBlockFormat")[0]
    found: dict[str, Any] = {"snap": _text(block, "channelLock") == "1"}
    for divergence in children(block, "objectDivergence"):
        if "azimuthRange" in divergence.attrib:
            found["divergence_range_deg"] = _number(divergence.get("azimuthRange"), 45.0)
        elif "positionRange" in divergence.attrib:
            aside = _number(divergence.get("positionRange"), 0.5) * OUT_IN_ROOM_DEG
            found["divergence_range_deg"] = aside
    zones = [
        zone for holder in children(block, "zoneExclusion") for zone in children(holder, "zone")
    ]
    known = [_zone(zone) for zone in zones]
    return {**found, "excluded": tuple(dict.fromkeys(one for one in known if one))}


def _unknown_zones(channel: Xml) -> int:
    """How many zones of the first block are none that this program knows."""
    block = children(channel, "audioBlockFormat")[0]
    holders = children(block, "zoneExclusion")
    return sum(_zone(zone) is None for holder in holders for zone in children(holder, "zone"))


def _zone(zone: Xml) -> Zone | None:
    if "minX" in zone.attrib:
        corners = ("minX", "maxX", "minY", "maxY", "minZ", "maxZ")
        place = tuple(_number(zone.get(name), math.nan) for name in corners)
        return next((name for name, own in ZONE_PLACES.items() if np.allclose(own, place)), None)
    names = ("minAzimuth", "maxAzimuth", "minElevation", "maxElevation")
    angles = tuple(_number(zone.get(name), math.nan) for name in names)
    return next((name for name, own in ZONE_ANGLES.items() if np.allclose(own, angles)), None)


def _gain_db(element: Xml) -> float:
    """The gain of an object in dB."""
    gain = next(iter(children(element, "gain")), None)
    return 0.0 if gain is None else _db(gain)


def _db(gain: Xml) -> float:
    """A gain in dB, linear where it does not say."""
    in_db = gain.get("gainUnit") == "dB"
    if (gain.text or "").strip().lower() in ("-inf", "-infinity"):
        return -120.0
    value = _number(gain.text, 0.0 if in_db else 1.0)
    return max(value, -120.0) if in_db else 20.0 * math.log10(max(value, 1e-6))


def _amplitude(block: Xml) -> float:
    """The gain of a block as an amplitude; -120 dB is nothing."""
    gain = next(iter(children(block, "gain")), None)
    level_db = 0.0 if gain is None else _db(gain)
    return 0.0 if level_db <= -120.0 else float(10.0 ** (level_db / 20.0))


def _is_low(channel: Xml) -> bool:
    """Whether a channel has nothing but low frequencies."""
    said = [*children(channel, "frequency")]
    for block in children(channel, "audioBlockFormat"):
        said += children(block, "frequency")
    return any(
        one.get("typeDefinition") == "lowPass" and _number(one.text, 1e9) <= _LOW_HZ for one in said
    )


def _plain_id(text: str) -> str:
    """An identifier in one case, as its digits may be written in either."""
    return text.strip().upper()


def _id_in(element: Xml) -> str:
    return _plain_id(element.text or "")


def _loudness_of(programme: Xml | None) -> Loudness:
    metadata = children(programme, "loudnessMetadata") if programme is not None else []
    if not metadata:
        return Loudness()

    def said(name: str) -> float | None:
        text = _text(metadata[0], name)
        return _number(text, 0.0) if text else None

    return Loudness(
        said("integratedLoudness"),
        said("loudnessRange"),
        said("maxTruePeak"),
        said("maxMomentary"),
        said("maxShortTerm"),
    )


def _text(element: Xml | None, name: str) -> str:
    found = children(element, name) if element is not None else []
    return (found[0].text or "").strip() if found else ""


def _seconds(text: str, default: float, what: str = "time") -> float:
    if not text.strip():
        return default
    match = _TIME.match(text.strip())
    if match is None:
        raise InputError(f"The block formats have the {what} {text!r}; write it as hh:mm:ss.zzzzz.")
    hours, minutes, rest, rate = match.groups()
    whole, _, fraction = rest.partition(".")
    if rate is not None and int(rate) == 0:
        raise InputError(f"The block formats have the {what} {text!r}; write it as hh:mm:ss.zzzzz.")
    part = float(f"0.{fraction or 0}") if rate is None else int(fraction or 0) / int(rate)
    return int(hours) * 3600 + int(minutes) * 60 + int(whole) + part


def _number(text: str | None, default: float) -> float:
    try:
        value = float(text or "")
    except ValueError:
        return default
    return value if math.isfinite(value) else default


def _checked(text: str) -> float:
    value = _number(text, math.nan)
    if math.isnan(value):
        raise InputError(f"{text[:20]!r} in these blocks is not a number; export them again.")
    return value
