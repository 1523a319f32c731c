"""Timecode as a recording: written to a file, and looked for in one."""

from pathlib import Path

import numpy as np

from metaphon.core.files.audio import AudioWriter, ClipReader, probe
from metaphon.core.foreign import reads_foreign
from metaphon.core.measure.timecode import (
    Found,
    FrameRate,
    Timecode,
    find,
    number_of,
    stretches_of,
    timecode_of,
)

_LONGEST_S = 300.0  # of what is looked through
_TONE_S, _TONE_HZ, _TONE_PEAK = 0.02, 1000.0, 0.25


@reads_foreign
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
        for stretch in stretches_of(start, rate, length_s, rate_hz):
            writer.add(stretch[None])


def write_recorder_take(
    path: Path,
    start: Timecode,
    rate: FrameRate,
    length_s: float,
    rate_hz: int,
    frames_ahead: int,
) -> None:
    """Write what a simulated recorder takes up whose clock is some frames ahead.

    Its first channel is its timecode, the second a short tone at every whole second, so that what
    was found can be heard.

    Parameters
    ----------
    path
        The file, 24 bits.
    start, rate
        Timecode of the first sample by the right clock.
    length_s, rate_hz
        Of the recording.
    frames_ahead
        How many frames its clock is ahead; behind where negative.
    """
    ahead = timecode_of(number_of(start, rate) + frames_ahead, rate)
    first = 0
    with AudioWriter(path, 2, rate_hz) as writer:
        for code in stretches_of(ahead, rate, length_s, rate_hz):
            at = np.arange(first, first + len(code)) % rate_hz
            wave = np.sin(2.0 * np.pi * _TONE_HZ * at / rate_hz)
            tone = np.where(at < _TONE_S * rate_hz, wave, 0.0)
            writer.add(np.stack([code, (_TONE_PEAK * tone).astype(np.float32)]))
            first += len(code)
