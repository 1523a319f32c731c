"""Whether a file is what it says it is: read again from the disk, as whoever receives it would."""

import struct
from dataclasses import dataclass
from pathlib import Path

from metaphon.core.adm.importing import definition_of, has_definition
from metaphon.core.document.targets import Target
from metaphon.core.errors import InputError
from metaphon.core.files.audio import AudioInfo, probe
from metaphon.core.files.channel_labels import mask_of, names_in
from metaphon.core.files.wave_chunks import chunk

_LOUDNESS_AT = 412  # the place of its five figures in a chunk `bext`
_OFF_LU = 0.1


@dataclass(frozen=True)
class Check:
    """One rule: what it asks, what was found, and where the rule is from."""

    asked: str
    found: str
    ok: bool
    source: str


def conformance(
    path: Path, target: Target, rate_hz: int, bits: str, integrated_lufs: float | None
) -> list[Check]:
    """Hold a file against the format it was written in.

    Parameters
    ----------
    path, target
        The file and what it should hold.
    rate_hz, bits
        How it should be written.
    integrated_lufs
        What was measured of it.
    """
    info = probe(path)
    depth = {"16": "PCM_16", "24": "PCM_24", "32f": "FLOAT"}[bits]
    found = [
        Check(
            f"{target.channels} channels, {rate_hz} Hz, {bits.replace('f', ' float')} bit",
            written_as(info),
            (info.channels, info.sample_rate_hz, info.encoding)
            == (target.channels, rate_hz, depth),
            "as asked for",
        )
    ]
    if path.suffix == ".wav":
        found += [_names(path, target), _loudness(path, integrated_lufs)]
        if has_definition(path):
            found.append(definition_check(path, info))
    return found


def written_as(info: AudioInfo) -> str:
    """How a file is written, in words."""
    depth = info.encoding.replace("PCM_", "").replace("FLOAT", "32 float")
    return f"{info.channels} channels, {info.sample_rate_hz} Hz, {depth} bit"


def definition_check(path: Path, info: AudioInfo) -> Check:
    """Whether an audio definition is understood, and speaks of every channel."""
    source = "ITU-R BS.2076-2, ITU-R BS.2088-1"
    asked = "An audio definition of every channel"
    try:
        told = definition_of(path)
    except InputError as error:
        return Check(asked, str(error), False, source)
    defined = {channel for element in told.elements for channel in element.channels}
    missing = info.channels - len(defined)
    said = [*told.notes, *([f"{missing} channels are not defined."] if missing else [])]
    return Check(asked, " ".join(said) or f"{len(defined)} channels defined", not said, source)


def _names(path: Path, target: Target) -> Check:
    wanted, told = list(target.channel_labels), names_in(path)
    if target.layout and not has_definition(path):
        wanted = [wanted[channel] for channel in mask_of(target.layout)[1]]
    return Check(
        f"Channels in the order of {target.title}",
        ", ".join(told) or "not named",
        told == wanted,
        "ITU-R BS.2051-3, iXML",
    )


def _loudness(path: Path, integrated_lufs: float | None) -> Check:
    source = "EBU Tech 3285, supplement 6"
    told = loudness_told(path)
    shown = "not told" if told is None else f"{told:.1f} LUFS"
    if integrated_lufs is None:
        return Check("No loudness told, there is none", shown, told is None, source)
    return Check(
        f"Its loudness told, {integrated_lufs:.1f} LUFS",
        shown,
        told is not None and abs(told - integrated_lufs) <= _OFF_LU,
        source,
    )


def loudness_told(path: Path) -> float | None:
    """The integrated loudness that a file's chunk `bext` tells, in LUFS."""
    found = chunk(path, b"bext") or b""
    if len(found) < _LOUDNESS_AT + 10:
        return None
    value = struct.unpack("<h", found[_LOUDNESS_AT : _LOUDNESS_AT + 2])[0]
    return None if value == 0x7FFF else value / 100.0
