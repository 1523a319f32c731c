"""Linear timecode: made as sound, and read from a recording.

Source: SMPTE ST 12-1 (words of 80 bits, biphase mark, sync word, drop frames; from memory).
"""

from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from metaphon.core.errors import InputError

_SYNC = [int(bit) for bit in "0011111111111101"]
_BITS = 80
_STRETCH_S = 10
_RISE_S = 40e-6  # of an edge
_PEAK = 0.25  # -12 dBFS
_DAY_S = 86_400
_SURE_S = (
    1.0  # of timecode: what is shorter tells no rates apart that are as close as 24 and 23.976
)
_JITTER = 0.1  # of a frame: what is farther off is a gap


class FrameRate(NamedTuple):
    """How many frames a second: as they are counted, as they pass, and whether numbers drop."""

    title: str
    counted: int
    real: Fraction
    drops: bool


RATES = {
    "23.976": FrameRate("23.976", 24, Fraction(24000, 1001), False),
    "24": FrameRate("24", 24, Fraction(24), False),
    "25": FrameRate("25", 25, Fraction(25), False),
    "29.97": FrameRate("29.97", 30, Fraction(30000, 1001), False),
    "29.97drop": FrameRate("29.97 drop", 30, Fraction(30000, 1001), True),
    "30": FrameRate("30", 30, Fraction(30), False),
}


class Timecode(NamedTuple):
    """Hours, minutes, seconds and frames."""

    hours: int
    minutes: int
    seconds: int
    frames: int

    def told(self, drops: bool = False) -> str:
        """As it is written, with a semicolon before the frames where numbers drop."""
        mark = ";" if drops else ":"
        return f"{self.hours:02d}:{self.minutes:02d}:{self.seconds:02d}{mark}{self.frames:02d}"


@dataclass(frozen=True)
class Found:
    """Timecode in a recording: its rate, its first whole frame and where that begins."""

    rate: FrameRate
    first: Timecode
    at_s: float
    frames: int
    broken: int  # places where it does not go on by one
    is_sure: bool = True  # whether it is long enough to tell rates a thousandth apart

    @property
    def offset_s(self) -> float:
        """What to add to a time of the recording to have the time that its timecode tells."""
        return seconds_of(self.first, self.rate) - self.at_s


def frames_ahead(found: Found, begins_s: float, origin_s: float) -> float:
    """How many frames a recorded timecode is ahead of that of a mix; behind where negative.

    Parameters
    ----------
    found
        What was read of the recording.
    begins_s
        Where in the mix its first sample lies, in seconds.
    origin_s
        What the timecode of the mix says at its beginning, in seconds from midnight.
    """
    return (found.offset_s - begins_s - origin_s) * float(found.rate.real)


def read_timecode(text: str, rate: FrameRate) -> Timecode:
    """Timecode as people type it. Raises InputError where there is no such."""
    parts = text.strip().replace(";", ":").replace(".", ":").split(":")
    if len(parts) == 4 and all(part.isdecimal() and len(part) <= 2 for part in parts):
        found = Timecode(*map(int, parts))
        fits = found.hours < 24 and found.minutes < 60 and found.seconds < 60
        dropped = rate.drops and found.minutes % 10 and not found.seconds and found.frames < 2
        if fits and found.frames < rate.counted and not dropped:
            return found
    raise InputError(f"{text[:20]!r} is no timecode at {rate.title}; type it as 01:00:00:00.")


def number_of(code: Timecode, rate: FrameRate) -> int:
    """How many frames have passed since midnight; two numbers a minute drop, but every tenth."""
    minutes = code.hours * 60 + code.minutes
    number = (minutes * 60 + code.seconds) * rate.counted + code.frames
    return number - 2 * (minutes - minutes // 10) if rate.drops else number


def timecode_of(number: int, rate: FrameRate) -> Timecode:
    """The timecode of a frame, counted from midnight and round the day."""
    if rate.drops:
        tens, rest = divmod(number, 17982)
        number += 18 * tens + 2 * max((rest - 2) // 1798, 0)
    seconds, frames = divmod(number, rate.counted)
    seconds %= _DAY_S
    return Timecode(seconds // 3600, seconds // 60 % 60, seconds % 60, frames)


def seconds_of(code: Timecode, rate: FrameRate) -> float:
    """When a frame begins, in real seconds from midnight."""
    return float(number_of(code, rate) / rate.real)


def word(code: Timecode, rate: FrameRate) -> list[int]:
    """The 80 bits of a frame, in the order in which they go out."""
    bits = [0] * _BITS

    def put(first: int, count: int, value: int) -> None:
        bits[first : first + count] = [value >> n & 1 for n in range(count)]

    for first, wide, value in (
        (0, 2, code.frames),
        (16, 3, code.seconds),
        (32, 3, code.minutes),
        (48, 2, code.hours),
    ):
        put(first, 4, value % 10)
        put(first + 8, wide, value // 10)
    bits[10] = int(rate.drops)
    bits[64:] = _SYNC
    # so many zeros that each frame begins with the same edge
    bits[59 if rate.counted == 25 else 27] = bits.count(0) % 2
    return bits


def as_sound(
    start: Timecode, rate: FrameRate, length_s: float, rate_hz: int
) -> NDArray[np.float32]:
    """Timecode as sound, (frames): the stretches of `stretches_of` together."""
    return np.concatenate(list(stretches_of(start, rate, length_s, rate_hz)))


def stretches_of(
    start: Timecode, rate: FrameRate, length_s: float, rate_hz: int
) -> Iterator[NDArray[np.float32]]:
    """Timecode as sound, biphase mark at -12 dBFS, a stretch of some seconds at a time.

    Parameters
    ----------
    start
        Of the first sample.
    rate
        Frames a second.
    length_s
        In seconds.
    rate_hz
        Of the sound.

    Yields
    ------
    (frames) float32
    """
    total = round(length_s * rate_hz)
    for first in range(0, total, _STRETCH_S * rate_hz):
        yield _stretch(start, rate, first, min(first + _STRETCH_S * rate_hz, total), rate_hz)


def _stretch(
    start: Timecode, rate: FrameRate, first: int, end: int, rate_hz: int
) -> NDArray[np.float32]:
    """The samples from one up to another. Each frame begins with the same edge, wherever it is."""
    period = rate_hz / float(rate.real) / _BITS
    frame = max(int(first / (period * _BITS)) - 1, 0)
    count = int(np.ceil((end - first) / (period * _BITS))) + 3
    known = number_of(start, rate) + frame
    bits = np.array([word(timecode_of(known + n, rate), rate) for n in range(count)]).ravel()
    begins = (np.arange(len(bits)) + frame * _BITS) * period
    middles = begins[bits == 1] + period / 2.0
    edges = np.sort(np.concatenate([begins, middles]))
    rise = _RISE_S * rate_hz
    at = np.arange(first, end) + rise / 2.0
    place = np.searchsorted(edges, at, side="right") - 1
    level = np.where(place % 2 == 0, 1.0, -1.0)
    # each edge rises in its time, and has its middle where it is
    along = np.clip((at - edges[place]) / rise, 0.0, 1.0)
    sound: NDArray[np.float64] = _PEAK * level * -np.cos(np.pi * along)
    return sound.astype(np.float32)


def find(sound: NDArray[np.float32], rate_hz: int) -> Found | None:
    """Timecode in a recording, (frames), at any level, either polarity; None where there is none.

    Edges are where it crosses the middle of its range; a bit is a 1 where one lies in its middle.
    """
    edges = _edges(sound)
    if len(edges) < 2 * _BITS:
        return None
    gaps = np.diff(edges)
    whole = float(np.percentile(gaps, 90))  # of a bit that is 0
    short = gaps < 0.75 * whole
    bits: list[int] = []
    begins: list[float] = []
    n = 0
    while n < len(gaps):
        if short[n] and n + 1 < len(gaps) and short[n + 1]:
            bits.append(1)
            begins.append(edges[n])
            n += 2
            continue
        if not short[n] and gaps[n] < 1.5 * whole:
            bits.append(0)
            begins.append(edges[n])
        n += 1
    return _words(bits, begins, rate_hz)


def _edges(sound: NDArray[np.float32]) -> NDArray[np.float64]:
    """Where the sound crosses its middle, between samples, with some reluctance against noise."""
    if not len(sound):
        return np.zeros(0)
    middle = (float(sound.max()) + float(sound.min())) / 2.0
    centred = sound.astype(float) - middle
    least = 0.3 * float(np.abs(centred).max())
    if least <= 0.0:
        return np.zeros(0)
    sides = np.where(centred > least, 1, np.where(centred < -least, -1, 0))
    known = np.flatnonzero(sides)
    turned = np.flatnonzero(np.diff(sides[known]))
    found = []
    for n in turned:
        a, b = known[n], known[n + 1]
        part = centred[a : b + 1]
        crossing = int(np.flatnonzero(np.diff(np.signbit(part)))[0])
        low, high = part[crossing], part[crossing + 1]
        found.append(a + crossing + low / (low - high))
    return np.array(found)


def _words(bits: list[int], begins: list[float], rate_hz: int) -> Found | None:
    codes: list[tuple[Timecode, bool, float]] = []
    n = 0
    while n + _BITS <= len(bits):
        if bits[n + 64 : n + _BITS] == _SYNC:
            code = _code_of(bits[n : n + _BITS])
            if code is not None:
                codes.append((code, bool(bits[n + 10]), begins[n] / rate_hz))
            n += _BITS
        else:
            n += 1
    if len(codes) < 2:
        return None
    times = np.array([at for _, _, at in codes])
    steps = np.diff(times)
    middle = float(np.median(steps))
    # by the way from the first to the last, as rates lie only a thousandth apart
    whole = steps[np.abs(steps / middle - 1.0) < _JITTER]
    real = 1.0 / float(np.mean(whole))
    drops = sum(drop for _, drop, _ in codes) > len(codes) / 2
    counted = max(code.frames for code, _, _ in codes) + 1
    fits = [rate for rate in RATES.values() if rate.drops == drops and rate.counted >= counted]
    rate = min(fits, key=lambda one: abs(float(one.real) - real))
    is_sure = float(times[-1] - times[0]) >= _SURE_S
    numbers = np.array([number_of(code, rate) for code, _, _ in codes])
    broken = int(np.count_nonzero(np.diff(numbers) != 1))
    return Found(rate, codes[0][0], codes[0][2], len(codes), broken, is_sure)


def _code_of(bits: list[int]) -> Timecode | None:
    def value(first: int, wide: int) -> int:
        units = sum(bits[first + n] << n for n in range(4))
        return units + 10 * sum(bits[first + 8 + n] << n for n in range(wide))

    code = Timecode(value(48, 2), value(32, 3), value(16, 3), value(0, 2))
    fits = code.hours < 24 and code.minutes < 60 and code.seconds < 60 and code.frames < 30
    return code if fits else None
