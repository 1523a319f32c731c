"""Timecode as a recording: written to a file, and looked for in one."""

from pathlib import Path

from metaphon.core.files.audio import AudioWriter, ClipReader, probe
from metaphon.core.measure.timecode import Found, FrameRate, Timecode, as_sound, find

_LONGEST_S = 300.0  # of what is looked through


def timecode_in(path: Path) -> Found | None:
    """The first timecode on any channel of a recording, in its first five minutes.

    Raises InputError where the file cannot be read.
    """
    info = probe(path)
    reader = ClipReader(path)
    try:
        sound = reader.read(0, min(info.frames, round(_LONGEST_S * info.sample_rate_hz)))
    finally:
        reader.close()
    found = (find(channel, info.sample_rate_hz) for channel in sound)
    return next((one for one in found if one), None)


def write_timecode(
    path: Path, start: Timecode, rate: FrameRate, length_s: float, rate_hz: int
) -> None:
    """Write timecode from a start on as a recording of one channel, 24 bits."""
    with AudioWriter(path, 1, rate_hz) as writer:
        writer.add(as_sound(start, rate, length_s, rate_hz)[None])
