"""When a mix begins by its timecode."""

from metaphon.core.document.mix import Mix
from metaphon.core.measure.timecode import (
    RATES,
    number_of,
    read_timecode,
    seconds_of,
    timecode_of,
)


def start_s(mix: Mix) -> float:
    """Give the time of day, in seconds, at which a mix begins."""
    rate = RATES[mix.frame_rate]
    return seconds_of(read_timecode(mix.start_timecode, rate), rate)


def timecode_at(mix: Mix, at_s: float) -> str:
    """Write the timecode of the frame that is shown at a time of the mix, in seconds."""
    rate = RATES[mix.frame_rate]
    first = number_of(read_timecode(mix.start_timecode, rate), rate)
    return timecode_of(first + int(at_s * rate.real + 1e-6), rate).told(rate.drops)


def seconds_at(mix: Mix, timecode: str) -> float:
    """Give the time of the mix, in seconds, at which a timecode begins; negative before it.

    Raises InputError where the text is no timecode at the frame rate of the mix.
    """
    rate = RATES[mix.frame_rate]
    return seconds_of(read_timecode(timecode, rate), rate) - start_s(mix)
