"""An audio definition as XML and as the table of channels that goes with it.

Sources: ITU-R BS.2076-2 (elements, identifiers, times), ITU-R BS.2088-1 (the chunk `chna`).
"""

import struct
from collections.abc import Iterator
from itertools import count
from xml.etree import ElementTree
from xml.etree.ElementTree import Element as Xml
from xml.etree.ElementTree import SubElement

import numpy as np

from metaphon.core.adm.model import Definition, Element, Loudspeaker, Path, Programme
from metaphon.core.document.alternatives import Varied
from metaphon.core.document.positions import FORMS
from metaphon.core.spatial.room_cube import OUT_IN_ROOM_DEG
from metaphon.core.spatial.zones import Zone

VERSION = "ITU-R_BS.2076-2"
_FIRST_OWN = 0x1001  # below lie the common definitions
_TYPES = {
    "bed": ("0001", "DirectSpeakers"),
    "object": ("0003", "Objects"),
    "scene": ("0004", "HOA"),
}
_SPHERE = ("azimuth", "elevation", "distance", "width", "height", "depth")
_CUBE = ("X", "Y", "Z", "width", "depth", "height")
COORDINATES = {False: _SPHERE, True: _CUBE}
# where loudspeakers lie that a source keeps out of, in degrees
# (azimuth from, to, elevation from, to)
ZONE_ANGLES: dict[Zone, tuple[float, float, float, float]] = {
    "front": (-60.0, 60.0, -90.0, 74.0),
    "sides": (60.5, 119.5, -90.0, 74.0),
    "rear": (100.5, -100.5, -90.0, 74.0),
    "left": (0.5, 179.5, -90.0, 90.0),
    "right": (-179.5, -0.5, -90.0, 90.0),
    "above": (-180.0, 180.0, 10.5, 90.0),
    "level": (-180.0, 180.0, -10.0, 10.0),
    "below": (-180.0, 180.0, -90.0, -10.5),
}


# the same as parts of the room, x, y and z from and to (common practice, no source)
ZONE_PLACES: dict[Zone, tuple[float, float, float, float, float, float]] = {
    "front": (-1.0, 1.0, 0.5, 1.0, -1.0, 1.0),
    "rear": (-1.0, 1.0, -1.0, -0.5, -1.0, 1.0),
    "left": (-1.0, -0.5, -1.0, 1.0, -1.0, 1.0),
    "right": (0.5, 1.0, -1.0, 1.0, -1.0, 1.0),
    "above": (-1.0, 1.0, -1.0, 1.0, 0.5, 1.0),
    "below": (-1.0, 1.0, -1.0, 1.0, -1.0, -0.5),
}


def to_xml(definition: Definition, rate_hz: int, bits: int) -> str:
    """The definition as the text of a chunk `axml`."""
    root = Xml("ebuCoreMain", {"xmlns": "urn:ebu:metadata-schema:ebucore"})
    core = SubElement(SubElement(root, "coreMetadata"), "format")
    whole = SubElement(core, "audioFormatExtended", version=VERSION)
    numbered = list(_numbered(definition))
    programmes = [
        _programme(whole, n, one, definition, rate_hz)
        for n, one in enumerate(definition.programmes)
    ]
    contents = _contents(whole, definition, programmes)
    parts: list[list[Xml]] = [[], [], [], []]  # objects, packs, channels, tracks
    for number, (element, uids) in enumerate(numbered):
        identifier = _object_id(number)
        _ref(contents[element.content], "audioObjectIDRef", identifier)
        _add(parts, element, number, identifier, uids, definition.end_s, rate_hz, bits)
        _let_change(parts[0][-1], definition, number, programmes)
    for content in contents.values():
        SubElement(content, "dialogue", mixedContentKind="0").text = "2"
    for part in parts:
        whole.extend(part)
    ElementTree.indent(root)
    return ElementTree.tostring(root, encoding="unicode", xml_declaration=True) + "\n"


def _programme(
    whole: Xml, number: int, one: Programme, definition: Definition, rate_hz: int
) -> Xml:
    found = SubElement(
        whole,
        "audioProgramme",
        audioProgrammeID=f"APR_{_FIRST_OWN + number:04x}",
        audioProgrammeName=one.name,
        start=told(0.0, rate_hz),
        end=told(definition.end_s, rate_hz),
    )
    if one.language:
        found.set("audioProgrammeLanguage", one.language)
    return found


def _contents(whole: Xml, definition: Definition, programmes: list[Xml]) -> dict[str, Xml]:
    """The contents by name; each programme refers to those that it has anything of."""
    main = definition.programmes[0]
    found: dict[str, Xml] = {}
    for number, element in enumerate(definition.elements):
        if element.content in found:
            continue
        identifier = f"ACO_{_FIRST_OWN + len(found):04x}"
        name = element.content or main.name
        found[element.content] = SubElement(
            whole, "audioContent", audioContentID=identifier, audioContentName=name
        )
        # what only programmes of one language have is in that language
        having = [p for p in definition.programmes if number not in p.absent]
        languages = {one.language for one in having}
        if len(languages) == 1 and (only := languages.pop()):
            found[element.content].set("audioContentLanguage", only)
        for programme, told_as in zip(definition.programmes, programmes, strict=True):
            if number not in programme.absent:
                _ref(told_as, "audioContentIDRef", identifier)
    for programme, told_as in zip(definition.programmes, programmes, strict=True):
        _loudness(told_as, programme)
    return found


def _let_change(one: Xml, definition: Definition, number: int, programmes: list[Xml]) -> None:
    """Say what a listener may change of an object, and what is otherwise of it in a programme."""
    element = definition.elements[number]
    varied = element.varied
    if varied and varied.is_open:
        one.set("interact", "1")
        _interaction(one, varied, element.kind == "object")
        if varied.choice:
            for other, found in enumerate(definition.elements):
                if other != number and found.varied and found.varied.choice == varied.choice:
                    _ref(one, "audioComplementaryObjectIDRef", _object_id(other))
    for place, programme in enumerate(definition.programmes):
        gain_db = programme.gains_db.get(number)
        if gain_db:
            identifier = f"AVS_{_FIRST_OWN + number:04x}_{place + 1:04x}"
            values = SubElement(one, "alternativeValueSet", alternativeValueSetID=identifier)
            SubElement(values, "gain", gainUnit="dB").text = f"{gain_db:g}"
            _ref(programmes[place], "alternativeValueSetIDRef", identifier)


def _interaction(one: Xml, varied: Varied, may_be_moved: bool) -> None:
    moves = may_be_moved and varied.may_be_moved
    louder = bool(varied.least_db or varied.most_db)
    found = SubElement(
        one,
        "audioObjectInteraction",
        onOffInteract=str(int(varied.switched or bool(varied.choice))),
        gainInteract=str(int(louder)),
        positionInteract=str(int(moves)),
    )
    if louder:
        for bound, value in (("min", varied.least_db), ("max", varied.most_db)):
            told_as = {"gainUnit": "dB", "bound": bound}
            SubElement(found, "gainInteractionRange", told_as).text = f"{value:g}"
    for name, most in (("azimuth", varied.azimuth_deg), ("elevation", varied.elevation_deg)):
        for bound, value in (("min", -most), ("max", most)) if moves else ():
            told_as = {"coordinate": name, "bound": bound}
            SubElement(found, "positionInteractionRange", told_as).text = f"{value:g}"


def chna(definition: Definition) -> bytes:
    """The content of the chunk that says what each channel of the file is."""
    rows = []
    for number, (element, uids) in enumerate(_numbered(definition)):
        pack = _pack_id(element, number)
        for place, (channel, uid) in enumerate(zip(element.channels, uids, strict=True)):
            track = f"{_channel_id(element, number, place)}_00"
            rows.append(
                struct.pack(
                    "<H12s14s11sx", channel + 1, uid.encode(), track.encode(), pack.encode()
                )
            )
    channels = len({channel for element in definition.elements for channel in element.channels})
    return struct.pack("<HH", channels, len(rows)) + b"".join(rows)


def told(seconds: float, rate_hz: int | None) -> str:
    """A time to the sample, hh:mm:ss.nnnnnSddddd, or without a rate in decimals, hh:mm:ss.zzzzz."""
    finest = rate_hz or 100_000
    whole, rest = divmod(round(seconds * finest), finest)
    text = f"{whole // 3600:02d}:{whole // 60 % 60:02d}:{whole % 60:02d}.{rest:05d}"
    return f"{text}S{rate_hz}" if rate_hz else text


def _numbered(definition: Definition) -> Iterator[tuple[Element, list[str]]]:
    """Each element with the identifiers of its tracks."""
    uids = count(1)
    for element in definition.elements:
        yield element, [f"ATU_{next(uids):08x}" for _ in element.channels]


def _object_id(number: int) -> str:
    return f"AO_{_FIRST_OWN + number:04x}"


def _pack_id(element: Element, number: int) -> str:
    return f"AP_{_TYPES[element.kind][0]}{_FIRST_OWN + number:04x}"


def _channel_id(element: Element, number: int, place: int) -> str:
    # room for 64 channels an element: an ambisonic scene of order 7
    return f"AC_{_TYPES[element.kind][0]}{_FIRST_OWN + 64 * number + place:04x}"


def _ref(parent: Xml, tag: str, identifier: str) -> None:
    SubElement(parent, tag).text = identifier


def _loudness(programme: Xml, told_of: Programme) -> None:
    found = told_of.loudness
    if found.integrated_lufs is None:
        return
    told_as = {
        "integratedLoudness": found.integrated_lufs,
        "loudnessRange": found.loudness_range_lu,
        "maxTruePeak": found.true_peak_dbtp,
        "maxMomentary": found.max_momentary_lufs,
        "maxShortTerm": found.max_short_term_lufs,
    }
    metadata = SubElement(
        programme,
        "loudnessMetadata",
        loudnessMethod="ITU-R BS.1770",
        loudnessRecType="EBU R128",
    )
    for tag, value in told_as.items():
        if value is not None:
            SubElement(metadata, tag).text = f"{value:.2f}"


def _add(
    parts: list[list[Xml]],
    element: Element,
    number: int,
    identifier: str,
    uids: list[str],
    end_s: float,
    rate_hz: int,
    bits: int,
) -> None:
    """Add one element: its object, its pack, its channels and their tracks."""
    label, definition = _TYPES[element.kind]
    typed = {"typeLabel": label, "typeDefinition": definition}
    pack_id = _pack_id(element, number)
    own = Xml(
        "audioObject",
        audioObjectID=identifier,
        audioObjectName=element.name,
        start=told(0.0, rate_hz),
        duration=told(end_s, rate_hz),
        importance=str(element.importance),
    )
    _ref(own, "audioPackFormatIDRef", pack_id)
    named = {"audioPackFormatID": pack_id, "audioPackFormatName": element.name}
    pack = Xml("audioPackFormat", {**named, **typed})
    if element.kind == "scene":
        SubElement(pack, "normalization").text = "SN3D"
    for place, uid in enumerate(uids):
        channel_id = _channel_id(element, number, place)
        _ref(own, "audioTrackUIDRef", uid)
        _ref(pack, "audioChannelFormatIDRef", channel_id)
        named = {
            "audioChannelFormatID": channel_id,
            "audioChannelFormatName": _channel_name(element, place),
        }
        channel = Xml("audioChannelFormat", {**named, **typed})
        channel.extend(_blocks(element, place, channel_id[3:], end_s, rate_hz))
        parts[2].append(channel)
        track = Xml("audioTrackUID", UID=uid, sampleRate=str(rate_hz), bitDepth=str(bits))
        _ref(track, "audioChannelFormatIDRef", channel_id)
        _ref(track, "audioPackFormatIDRef", pack_id)
        parts[3].append(track)
    parts[0].append(own)
    parts[1].append(pack)


def _channel_name(element: Element, place: int) -> str:
    if element.kind == "bed":
        return element.loudspeakers[place].label
    if element.kind == "scene":
        return f"ACN {place}"
    return element.name if len(element.channels) == 1 else f"{element.name} {place + 1}"


def _blocks(
    element: Element, place: int, identifier: str, end_s: float, rate_hz: int
) -> Iterator[Xml]:
    if element.kind == "object":
        yield from object_blocks(element, element.paths[place], identifier, end_s, rate_hz)
        return
    block = Xml("audioBlockFormat", audioBlockFormatID=f"AB_{identifier}_00000001")
    if element.kind == "bed":
        _loudspeaker(block, element.loudspeakers[place])
    else:
        order = int(np.sqrt(place))
        SubElement(block, "order").text = str(order)
        SubElement(block, "degree").text = str(place - order * order - order)
        SubElement(block, "normalization").text = "SN3D"
    yield block


def _loudspeaker(block: Xml, speaker: Loudspeaker) -> None:
    SubElement(block, "speakerLabel").text = speaker.label
    for name, value in (("azimuth", speaker.azimuth_deg), ("elevation", speaker.elevation_deg)):
        SubElement(block, "position", coordinate=name).text = f"{value:.2f}"
    if speaker.is_lfe:
        block.append(Xml("frequency", typeDefinition="lowPass"))
        block[-1].text = "120"


def object_blocks(
    element: Element, path: Path, identifier: str, end_s: float, rate_hz: int | None
) -> Iterator[Xml]:
    """The blocks of an object's way: a position is reached at the end of its block, from the last.

    Times are to the sample, or without a rate to the hundredth of a millisecond.
    """
    finest = rate_hz or 100_000
    marks = np.round(path.times_s * finest).astype(int)
    end = max(round(end_s * finest), int(marks[-1]), 1)
    # the first block sets where the path begins, and holds it up to the first breakpoint
    stops = [max(int(marks[0]), 1), *(int(m) for m in marks[1:]), end]
    columns = [0, *range(1, len(marks)), len(marks) - 1]
    start = 0
    for number, (stop, column) in enumerate(zip(stops, columns, strict=True), start=1):
        if stop <= start:
            continue
        block = Xml(
            "audioBlockFormat",
            audioBlockFormatID=f"AB_{identifier}_{number:08x}",
            rtime=told(start / finest, rate_hz),
            duration=told((stop - start) / finest, rate_hz),
        )
        _position(block, path, column)
        _rest(block, element, path, column)
        if number == 1:
            SubElement(block, "jumpPosition").text = "1"
        yield block
        start = stop


def _position(block: Xml, path: Path, column: int) -> None:
    SubElement(block, "cartesian").text = "1" if path.in_room else "0"
    values = dict(
        zip(FORMS["cube" if path.in_room else "sphere"], path.values[:, column], strict=True)
    )
    if path.in_room:
        told_as = [(name.upper(), values[name]) for name in ("x", "y", "z")]
        sizes = values["extent_x"], values["extent_y"], values["extent_z"]
        named = zip(("width", "depth", "height"), sizes, strict=True)
    else:
        azimuth = 180.0 - (180.0 - values["azimuth_deg"]) % 360.0
        told_as = [
            ("azimuth", azimuth),
            ("elevation", values["elevation_deg"]),
            ("distance", values["distance"]),
        ]
        sizes = values["extent_deg"], values["extent_height_deg"], values["extent_depth"]
        named = zip(("width", "height", "depth"), sizes, strict=True)
    for name, value in told_as:
        SubElement(block, "position", coordinate=name).text = f"{value:.6f}"
    for name, value in named:
        if value:
            SubElement(block, name).text = f"{value:.6f}"


def _rest(block: Xml, element: Element, path: Path, column: int) -> None:
    if path.diffuseness[column]:
        SubElement(block, "diffuse").text = f"{path.diffuseness[column]:.6f}"
    if path.divergence[column]:
        divergence = SubElement(block, "objectDivergence")
        if path.in_room:
            aside = min(element.divergence_range_deg / OUT_IN_ROOM_DEG, 1.0)
            divergence.set("positionRange", f"{aside:.9g}")
        else:
            divergence.set("azimuthRange", f"{element.divergence_range_deg:g}")
        divergence.text = f"{path.divergence[column]:.6f}"
    if element.snap:
        SubElement(block, "channelLock").text = "1"
    if element.excluded:
        zones = SubElement(block, "zoneExclusion")
        for zone in element.excluded:
            names = ("minAzimuth", "maxAzimuth", "minElevation", "maxElevation")
            angles = {n: f"{v:g}" for n, v in zip(names, ZONE_ANGLES[zone], strict=True)}
            SubElement(zones, "zone", angles).text = zone
