"""Audio definitions from elsewhere, read tolerantly: what is not understood is told and left out.

Sources: ITU-R BS.2076-2, ITU-R BS.2088-1; common definitions by ITU-R BS.2094 (from memory).
"""

import math
import re
import struct
from dataclasses import dataclass
from typing import Any
from xml.etree import ElementTree
from xml.etree.ElementTree import Element as Xml

import numpy as np

from metaphon.core.adm.model import Definition, Element, Loudness, Loudspeaker, Path, Programme
from metaphon.core.adm.writing import COORDINATES, ZONE_ANGLES
from metaphon.core.document.alternatives import Varied
from metaphon.core.document.value_paths import within
from metaphon.core.errors import InputError
from metaphon.core.spatial.ambisonics import order_of
from metaphon.core.spatial.layouts import LOUDSPEAKERS
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
                    self._by_id.setdefault(value, element)
        self._rows = {row.uid: row for row in rows if row.channel < channels}
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
            identifier = one.get("audioObjectID", "")
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
        chosen = {(c.text or "").strip() for c in children(one, "alternativeValueSetIDRef")}
        for found in self._objects_of(one):
            own = places.get(found.get("audioObjectID", ""), [])
            heard |= set(own)
            for values in children(found, "alternativeValueSet"):
                if values.get("alternativeValueSetID") not in chosen:
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
                waiting = [*self._named(one, "audioObjectIDRef"), *waiting]
        return whole

    def _named(self, element: Xml, reference: str) -> list[Xml]:
        texts = [(child.text or "").strip() for child in children(element, reference)]
        unknown = [text for text in texts if text not in self._by_id]
        if unknown and reference not in ("audioTrackUIDRef",):
            self._say(f"{len(unknown)} references lead nowhere, such as {unknown[0]}.")
        return [self._by_id[text] for text in texts if text in self._by_id]

    def _elements(self, one: Xml) -> list[Element]:
        """What an object is: one element for each of its packs."""
        name = one.get("audioObjectName") or "Object"
        uids = [(child.text or "").strip() for child in children(one, "audioTrackUIDRef")]
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
        others = [(c.text or "").strip() for c in children(one, "audioComplementaryObjectIDRef")]
        if others:
            found["choice"] = min(one.get("audioObjectID", ""), *others)
            found["switched"] = False
        return Varied(strip="element", **found) if any(found.values()) else None

    def _pack_of(self, one: Xml) -> str:
        refs = children(one, "audioPackFormatIDRef")
        return (refs[0].text or "").strip() if refs else ""

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
        more: dict[str, Any] = {
            "importance": round(_number(one.get("importance"), 10.0)),
            "gain_db": _gain_db(one),
            "start_s": _seconds(one.get("start", ""), 0.0),
            "varied": self._varied(one, name),
        }
        if (offset := children(one, "positionOffset")) and kind == "object":
            self._say(f"{name}: its offset of position is left out ({len(offset)} values).")
        if any((mute.text or "").strip() == "1" for mute in children(one, "mute")):
            self._say(f"{name} is muted in the file; it is brought in at rest.")
            more["gain_db"] = -120.0
        places = tuple(row.channel for row in rows)
        if kind == "bed":
            speakers = tuple(self._loudspeaker(name, c) for c in channels)
            return Element(name, "bed", places, speakers, **more)
        if kind == "scene":
            return self._scene(name, channels, places, pack, more)
        if kind == "object":
            paths = tuple(path_of(c.format) for c in channels if c.format is not None)
            if len(paths) < len(places):
                self._say(f"{name}: a channel of it is not defined; it is left out.")
                return None
            first = channels[0].format
            assert first is not None
            return Element(name, "object", places, (), paths, **more, **_rest(first))
        self._say(f"{name}: its kind ({pack_id or 'not told'}) is not understood; it is left out.")
        return None

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
        texts = ((child.text or "").strip() for child in children(element, reference))
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
            if norm not in ("SN3D", ""):
                self._say(f"{name}: its scene is in {norm}, of which only SN3D is read.")
                return None
        if sorted(numbers) != list(range(len(places))) or int(len(places) ** 0.5) ** 2 != len(
            places
        ):
            self._say(f"{name}: its scene is not whole; it is left out.")
            return None
        sorted_places = tuple(place for _, place in sorted(zip(numbers, places, strict=True)))
        order = order_of(len(places))
        return Element(name, "scene", sorted_places, order=order, **more)


@dataclass(frozen=True)
class _Channel:
    """A channel format, by its identifier, and its text where there is one."""

    identifier: str
    format: Xml | None

    @property
    def number(self) -> int:
        """The last four digits of its identifier."""
        match = re.fullmatch(r"AC_[0-9a-fA-F]{4}([0-9a-fA-F]{4})", self.identifier)
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
    return Path(in_room, np.array(times), columns[:6], columns[6], columns[7])


def _is_in_room(block: Xml) -> bool:
    told = _text(block, "cartesian")
    if told:
        return told == "1"
    return any(e.get("coordinate") in ("X", "Y", "Z") for e in block)


def _values(block: Xml, in_room: bool) -> list[float]:
    """The six values of a position, divergence and diffuseness."""
    found = dict.fromkeys((*COORDINATES[in_room], "objectDivergence", "diffuse"), 0.0)
    if not in_room:
        found["distance"] = 1.0
    for element in block:
        word = element.get("coordinate") or local(element)
        if word in found:
            found[word] = _checked(element.text or "")
    if in_room:  # the order of the document: width, depth, height go with x, y, z
        found["divergence"] = found.pop("objectDivergence")
    return (
        [*found.values()]
        if not in_room
        else [
            *(found[word] for word in COORDINATES[True]),
            found["divergence"],
            found["diffuse"],
        ]
    )


def _rest(channel: Xml) -> dict[str, Any]:
    """What the first block says and this model holds for good."""
    block = children(channel, "audioBlockFormat")[0]
    found: dict[str, Any] = {"snap": _text(block, "channelLock") == "1"}
    for divergence in children(block, "objectDivergence"):
        if "azimuthRange" in divergence.attrib:
            found["divergence_range_deg"] = _number(divergence.get("azimuthRange"), 45.0)
    zones = [
        zone for holder in children(block, "zoneExclusion") for zone in children(holder, "zone")
    ]
    known = [found_zone for zone in zones if (found_zone := _zone(zone))]
    return {**found, "excluded": tuple(known)}


def _zone(zone: Xml) -> Zone | None:
    names = ("minAzimuth", "maxAzimuth", "minElevation", "maxElevation")
    angles = tuple(_number(zone.get(name), math.nan) for name in names)
    return next((name for name, own in ZONE_ANGLES.items() if np.allclose(own, angles)), None)


def _gain_db(element: Xml) -> float:
    """The gain of an object in dB."""
    gain = next(iter(children(element, "gain")), None)
    return 0.0 if gain is None else max(min(_db(gain), 12.0), -120.0)


def _db(gain: Xml) -> float:
    """A gain in dB, linear where it does not say."""
    value = _number(gain.text, 0.0 if gain.get("gainUnit") == "dB" else 1.0)
    return value if gain.get("gainUnit") == "dB" else 20.0 * math.log10(max(value, 1e-6))


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
