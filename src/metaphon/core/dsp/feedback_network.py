"""Sixteen delays that feed each other without loss but for their decay.

Per-line losses so that all fall alike: Jot & Chaigne 1991. Pairs of lines turn into each other as
time goes on (Schlecht & Habets 2015), so that no mode rings alone.
"""

from functools import lru_cache
from typing import NamedTuple

import numba
import numpy as np
from numpy.typing import NDArray

from metaphon.core.dsp.block import Block
from metaphon.core.dsp.wide import (
    LANES,
    SAMPLES,
    eight_frames,
    hushed,
    load,
    one_frame,
    put_frames,
    splat,
    store,
)

LINES = 16
PER_LINE = 9  # numbers of a line: its gain, two shelves (g and two gains, g and three), one pole
NUMBERS = LINES * PER_LINE + 3  # and the level, how far the lines sway in samples, the input
SHELF_K = float(np.sqrt(2.0))  # 1 / Q of the shelves
MOST_SWAY = 96.0  # samples
_AT_ONCE = 256  # samples; all lines of them stay in the nearest memory
_MOVING = 128  # of which so many where anything moves: straight lines run between them
_GONE = 1e-30  # what has died away so far is kept out of the slow range of numbers
# how fast pairs of lines turn into each other: no mode rings long enough to stand out
_TURNS_HZ = np.array([1.5, -2.2, 2.9, -3.5, 4.2, -5.0, 5.9, -6.9])
_GLIDE = 0.03  # samples a sample: how fast the longest line goes to another length

Numbers = NDArray[np.float64]
_OTHERWISE = np.array([int(f"{k:04b}"[::-1], 2) for k in range(LINES)])  # unlike going in


class _Lines(NamedTuple):
    """The delays that feed each other, and their memory."""

    sound: NDArray[np.float32]  # (LINES, longest)
    filters: NDArray[np.float64]  # (5, LINES): two of each shelf, one of the pole
    at: NDArray[np.int64]  # (1): where all write next


class FeedbackNetwork:
    """The lines at work, and those that are held: a tail that neither falls nor grows.

    Each channel enters and leaves by signs of its own, of a kind (bent sequences; Rothaus 1976)
    that no row of the mixing matrix resembles, so every line is heard in every channel alike.

    Parameters
    ----------
    entering, leaving
        What each channel gives to the lines and takes of them, (channels): amplitudes.
    longest
        Of any line, in samples.
    rate_hz
        Of the sound.
    """

    def __init__(
        self,
        entering: NDArray[np.float64],
        leaving: NDArray[np.float64],
        longest: int,
        rate_hz: int,
    ) -> None:
        signs = _hadamard()
        enters, leaves = _bent(0), _bent(1)
        rows = np.array([np.roll(signs[c % LINES], 5 * (c // LINES)) for c in range(len(entering))])
        self._inputs = ((rows * enters).T * entering / np.sqrt(LINES)).astype(np.float32)
        outputs = rows[:, _OTHERWISE] * leaves * leaving[:, None]
        # four channels are worked on at a time
        self._outputs = np.pad(outputs, ((0, -len(rows) % 4), (0, 0))).astype(np.float32)
        self._rate_hz = rate_hz
        self._longest = longest + _AT_ONCE + int(MOST_SWAY) + 4
        self._lengths = np.zeros(LINES)
        self._lines = self._empty()
        self._held: _Lines | None = None
        self._rings = False  # whether anything has ever come in
        # how often in a second, and the angle at the beginning of the mix
        self._swaying: tuple[float, float] | None = None
        turns = 2.0 * np.pi * _TURNS_HZ / rate_hz
        angles = turns[:, None] * np.arange(_AT_ONCE)
        within = np.stack([np.cos(angles), np.sin(angles)], axis=1)
        self._turning = turns, within.astype(np.float32)

    @property
    def longest(self) -> int:
        """How long what has gone in may be on its way before it is heard, in samples."""
        return self._longest

    @property
    def is_held(self) -> bool:
        """Whether a tail is held."""
        return self._held is not None

    def hold(self) -> None:
        """Set what rings aside, to be held; what comes in from now on rings apart from it."""
        self._held, self._lines = self._lines, self._empty()
        self._lines.at[:] = self._held.at

    def release(self) -> None:
        """Let what is held ring with the rest: the network is linear, so the two add up."""
        assert self._held is not None
        self._lines.sound[:] += self._held.sound
        self._lines.filters[:] += self._held.filters
        self._held = None

    def forget(self) -> None:
        """Ring no more."""
        self._lines.sound[:] = 0.0
        self._lines.filters[:] = 0.0

    def process(
        self,
        source: Block,
        at: int,
        lengths: NDArray[np.int64],
        swaying_hz: float,
        frames: NDArray[np.int64],
        numbers: Numbers,
        held: Numbers,
    ) -> Block:
        """Take and give (channels, frames).

        Parameters
        ----------
        at
            The frame of the mix that the block begins with: lines turn by the time of the mix.
        lengths
            (LINES) in samples, to which lines glide; while a tail is held they stay as they are.
        swaying_hz
            How often lines grow longer and shorter in a second.
        frames, numbers, held
            Where numbers are given, (points); what they are there, (points, NUMBERS), of the lines
            at work and of those that are held.
        """
        if not self._lengths.any():
            self._lengths[:] = lengths
        wanted = self._lengths.copy() if self._held else lengths.astype(float)
        if self._swaying is None:
            self._swaying = swaying_hz, 0.0
        if swaying_hz != self._swaying[0]:  # on from where the lines are in their sway
            turned = 2.0 * np.pi * at / self._rate_hz * (self._swaying[0] - swaying_hz)
            self._swaying = swaying_hz, (self._swaying[1] + turned) % (2.0 * np.pi)
        sway = 2.0 * np.pi * swaying_hz / self._rate_hz, self._swaying[1]
        wet = np.zeros(source.shape, dtype=np.float32)
        self._rings = self._rings or bool(source.any())
        if not self._rings and np.array_equal(self._lengths, wanted):
            return wet  # lines turn by the time of the mix, whether they were worked on or not
        sways = numbers[:, -2].max()
        moves = len(frames) > 1 or sways or not np.array_equal(self._lengths, wanted)
        most = int(min(self._lengths.min(), wanted.min()) - sways) - 3
        most = max(min(_MOVING if moves else _AT_ONCE, 1 << (most.bit_length() - 1)), 16)
        before = self._lengths.copy()
        parts = [(self._lines, source, numbers)]
        if self._held is not None:
            parts.append((self._held, np.zeros_like(source), held))
        for lines, sound, own in parts:
            self._lengths[:] = before
            _run(
                np.ascontiguousarray(sound),
                wet,
                at,
                frames,
                own,
                wanted,
                sway,
                most,
                self._turning,
                self._lengths,
                lines,
                self._inputs,
                self._outputs,
            )
        return wet

    def _empty(self) -> _Lines:
        return _Lines(
            np.zeros((LINES, self._longest), dtype=np.float32),
            np.zeros((5, LINES)),
            np.zeros(1, dtype=np.int64),
        )


def _hadamard() -> NDArray[np.float64]:
    """The matrix of signs whose rows are all orthogonal, (LINES, LINES) (Sylvester)."""
    found = np.ones((1, 1))
    while len(found) < LINES:
        found = np.block([[found, found], [found, -found]])
    return found


def _bent(kind: int) -> NDArray[np.float64]:
    """A sequence of signs that every row of the Hadamard matrix resembles equally little."""
    bits = (np.arange(LINES)[:, None] >> np.arange(4)) & 1
    pairs = ((0, 1), (2, 3)) if kind else ((0, 2), (1, 3))
    (a, b), (c, d) = pairs
    return 1.0 - 2.0 * ((bits[:, a] * bits[:, b] + bits[:, c] * bits[:, d]) % 2)


@lru_cache(64)
def primes(lengths: tuple[int, ...]) -> NDArray[np.int64]:
    """The next prime above each length, all different, so that echoes seldom coincide."""
    found: list[int] = []
    for candidate in lengths:
        while candidate in found or any(
            candidate % k == 0 for k in range(2, int(candidate**0.5) + 1)
        ):
            candidate += 1
        found.append(candidate)
    return np.array(found, dtype=np.int64)


@numba.njit(cache=True, nogil=True)
def _run(  # type: ignore[no-untyped-def]  # noqa: PLR0913
    source,
    wet,
    begin,
    points,
    numbers,
    wanted,
    sway,
    most,
    turning,
    lengths,
    state,
    inputs,
    outputs,
):
    """All lines through a few samples at a time, fewer than the shortest delay holds.

    So loops run along time. `source` and `wet` are (channels, frames), and what is heard is added
    to `wet`; `numbers` are given at `points`; `state` goes on from block to block.
    """
    lines, filters, at = state
    turns, within = turning
    channels, frames = source.shape
    longest = lines.shape[1]
    heard = np.zeros((LINES, most), dtype=np.float32)
    entering = np.zeros((channels, most), dtype=np.float32)
    leaving = np.zeros((len(outputs), most), dtype=np.float32)
    now, then = np.empty(numbers.shape[1]), np.empty(numbers.shape[1])
    level, swing, gate = NUMBERS - 3, NUMBERS - 2, NUMBERS - 1
    for first in range(0, frames, most):
        count = min(most, frames - first)
        _between(now, points, numbers, first)
        _between(then, points, numbers, first + count)
        apart = np.abs(wanted - lengths).max()
        share = min(1.0, _GLIDE * count / apart) if apart > 0.0 else 1.0
        for k in range(LINES):
            longer = (wanted[k] - lengths[k]) * share
            if now[swing] == 0.0 and then[swing] == 0.0:
                _tap(heard[k, :count], lines[k], at[0], lengths[k], longer)
            else:
                # each line sways by its own time; as far as it goes it grows longer only
                angle = 2.0 * np.pi * k * 0.381966 + sway[1] + sway[0] * (begin + first)
                here = lengths[k] + now[swing] * 0.5 * (1.0 + np.sin(angle))
                there = lengths[k] + longer
                there += then[swing] * 0.5 * (1.0 + np.sin(angle + sway[0] * count))
                _tap(heard[k, :count], lines[k], at[0], here, there - here)
            lengths[k] = wanted[k] if share == 1.0 else lengths[k] + longer
        _fall(heard, count, now, then, filters)
        _leave(leaving, outputs, heard, count)
        for c in range(channels):
            _add(wet[c, first : first + count], leaving[c], now[level], then[level])
        _enter(entering, source, first, count, now[gate], then[gate])
        _spread(heard, count)
        _return(heard, count, inputs, entering, turns * (begin + first), within)
        for k in range(LINES):
            before = min(count, longest - at[0])
            _copy(heard[k, :before], lines[k, at[0] : at[0] + before])
            _copy(heard[k, before:count], lines[k, : count - before])
        at[0] = (at[0] + count) % longest


@numba.njit(cache=True, nogil=True)
def _between(numbers, points, given, frame):  # type: ignore[no-untyped-def]
    """The numbers at a frame, from those given at points, straight in between."""
    last = len(points) - 1
    point = 0
    while point < last and points[point + 1] <= frame:
        point += 1
    after = min(point + 1, last)
    span = points[after] - points[point]
    along = (frame - points[point]) / span if span > 0 and frame > points[point] else 0.0
    for n in range(len(numbers)):
        numbers[n] = given[point, n] + (given[after, n] - given[point, n]) * along


@numba.njit(cache=True, nogil=True)
def _copy(one, other):  # type: ignore[no-untyped-def]
    """Copy samples to as many places; quicker than a general assignment."""
    for i in range(len(one)):
        other[i] = one[i]


@numba.njit(cache=True, nogil=True)
def _tap(heard, line, at, length, longer):  # type: ignore[no-untyped-def]
    """Read a stretch, (frames), of a line that goes round, so many samples before `at`.

    Where the length grows within it, between samples by Catmull and Rom's cubic.
    """
    longest = len(line)
    if longer == 0.0 and length == np.floor(length):
        start = (at - int(length)) % longest
        before = min(len(heard), longest - start)
        _copy(line[start : start + before], heard[:before])
        _copy(line[: len(heard) - before], heard[before:])
        return
    # what is read, one after the other: from before the earliest to behind the last
    count = len(heard)
    begin = int(np.floor(at - length - max(longer, 0.0))) - 1
    read = np.empty(count + int(abs(longer)) + 5, dtype=np.float32)
    start = begin % longest
    before = min(len(read), longest - start)
    _copy(line[start : start + before], read[:before])
    _copy(line[: len(read) - before], read[before:])
    ahead, slope = at - length - begin, 1.0 - longer / count
    for i in range(count):
        place = ahead + slope * i
        whole = int(place)
        f = np.float32(place - whole)
        a, b, c, d = read[whole - 1], read[whole], read[whole + 1], read[whole + 2]
        curve = np.float32(2.0) * a - np.float32(5.0) * b + np.float32(4.0) * c - d
        bend = np.float32(3.0) * (b - c) + d - a
        heard[i] = b + np.float32(0.5) * f * (c - a + f * (curve + f * bend))


@numba.njit(cache=True, nogil=True)
def _fall(heard, count, now, then, filters):  # type: ignore[no-untyped-def]
    """What each line loses a round, in place: a gain, a low and a high shelf, one pole.

    `heard` is (LINES, at least count); `now` and `then` have the numbers at both ends; `filters`
    (5, LINES) is the memory.
    """
    n, step = now[: PER_LINE * LINES].reshape(PER_LINE, LINES), np.empty((PER_LINE, LINES))
    for p in range(PER_LINE):
        for k in range(LINES):
            step[p, k] = (then[p * LINES + k] - n[p, k]) / count
    if np.any(step != 0.0):
        for k in range(LINES):
            _fall_moving(heard[k, :count], n[:, k], step[:, k], filters[:, k])
    else:
        _fall_still(heard, count, n, filters)
    for p in range(5):
        for k in range(LINES):
            if abs(filters[p, k]) < _GONE:  # keep out of the slow range of numbers
                filters[p, k] = 0.0


@numba.njit(cache=True, nogil=True)
def _fall_still(heard, count, n, filters):  # type: ignore[no-untyped-def]
    """All lines, (LINES, at least count), side by side through what they lose, in place."""
    rows = np.arange(LINES) * heard.shape[1]
    near, far = rows[:LANES], rows[LANES:]
    made, rest = np.empty((2, LANES * LANES)), np.empty(LINES)
    numbers, others = _losses(n, 0), _losses(n, LANES)
    memory, memories = _memory(filters, 0), _memory(filters, LANES)
    whole = count - count % LANES
    for first in range(0, whole, LANES):
        ones, twos = eight_frames(heard, near, first), eight_frames(heard, far, first)
        for i in range(LANES):  # two registers at a time: they do not wait for each other
            memory = _lost(ones[i], numbers, memory)
            memories = _lost(twos[i], others, memories)
            store(made[0], i * LANES, memory[4])
            store(made[1], i * LANES, memories[4])
        put_frames(made[0], heard, near, first)
        put_frames(made[1], heard, far, first)
    for i in range(whole, count):
        memory = _lost(one_frame(heard, near, i), numbers, memory)
        memories = _lost(one_frame(heard, far, i), others, memories)
        store(rest, 0, memory[4])
        store(rest, LANES, memories[4])
        for k in range(LINES):
            heard[k, i] = rest[k]
    for p in range(5):
        store(filters[p], 0, memory[p])
        store(filters[p], LANES, memories[p])


@numba.njit(cache=True, nogil=True)
def _losses(n, k):  # type: ignore[no-untyped-def]
    """The numbers of eight lines from `k` on, as `_lost` needs them."""
    g, low_g = n[1], n[4]
    return (
        (load(g, k), load(1.0 / (1.0 + g * (g + SHELF_K)), k), load(n[2], k), load(n[3], k)),
        (load(low_g, k), load(1.0 / (1.0 + low_g * (low_g + SHELF_K)), k)),
        (load(n[5], k), load(n[6], k), load(n[7], k)),
        (load(n[0] * (1.0 - n[8]), k), load(n[8], k)),
    )


@numba.njit(cache=True, nogil=True)
def _memory(filters, k):  # type: ignore[no-untyped-def]
    """The memory of eight lines from `k` on."""
    return (
        load(filters[0], k),
        load(filters[1], k),
        load(filters[2], k),
        load(filters[3], k),
        load(filters[4], k),
    )


@numba.njit(cache=True, nogil=True)
def _lost(x, numbers, memory):  # type: ignore[no-untyped-def]
    """The memory of eight lines a sample on; the last of it is what comes out."""
    (g, a, band_gain, low_gain), (h, b), (high_2, band_2, low_2), (gain, pole) = numbers
    p, q, r, s, last = memory
    two = splat(2.0)
    band = a * (p + g * (x - q))
    low = q + g * band
    p, q = two * band - p, two * low - q
    x = x + band_gain * band + low_gain * low
    band = b * (r + h * (x - s))
    low = s + h * band
    r, s = two * band - r, two * low - s
    x = high_2 * x + band_2 * band + low_2 * low
    return p, q, r, s, hushed(gain * x + pole * last, splat(_GONE))


@numba.njit(cache=True, nogil=True, fastmath={"contract"})
def _fall_moving(sound, n, step, state):  # type: ignore[no-untyped-def]
    """One line, (frames), through all that it loses while it moves, in place; `n` moves on."""
    p, q, r, s, pole = state
    for i in range(len(sound)):
        x = float(sound[i])
        band = (p + n[1] * (x - q)) / (1.0 + n[1] * (n[1] + SHELF_K))
        low = q + n[1] * band
        p, q = 2.0 * band - p, 2.0 * low - q
        x += n[2] * band + n[3] * low
        band = (r + n[4] * (x - s)) / (1.0 + n[4] * (n[4] + SHELF_K))
        low = s + n[4] * band
        r, s = 2.0 * band - r, 2.0 * low - s
        x = n[5] * x + n[6] * band + n[7] * low
        pole = (1.0 - n[8]) * n[0] * x + n[8] * pole
        sound[i] = pole
        for k in range(PER_LINE):
            n[k] += step[k]
    state[0], state[1], state[2], state[3], state[4] = p, q, r, s, pole


@numba.njit(cache=True, nogil=True)
def _leave(leaving, outputs, heard, count):  # type: ignore[no-untyped-def]
    """What leaves, (channels, at least count): the sums of all lines by their `outputs`.

    `outputs` are (channels, LINES), four channels at a time; each line is read once for all four.
    """
    for c in range(0, len(outputs), 4):
        for i in range(0, count, SAMPLES):
            x = load(heard[0], i)
            one, two = splat(outputs[c, 0]) * x, splat(outputs[c + 1, 0]) * x
            three, four = splat(outputs[c + 2, 0]) * x, splat(outputs[c + 3, 0]) * x
            for k in range(1, LINES):
                x = load(heard[k], i)
                one, two = one + splat(outputs[c, k]) * x, two + splat(outputs[c + 1, k]) * x
                three = three + splat(outputs[c + 2, k]) * x
                four = four + splat(outputs[c + 3, k]) * x
            store(leaving[c], i, one)
            store(leaving[c + 1], i, two)
            store(leaving[c + 2], i, three)
            store(leaving[c + 3], i, four)


@numba.njit(cache=True, nogil=True, fastmath={"contract"})
def _add(wet, leaving, level, level_then):  # type: ignore[no-untyped-def]
    """Add to one output channel, (frames), what leaves by it."""
    start, slope = np.float32(level), np.float32((level_then - level) / len(wet))
    for i in range(len(wet)):
        wet[i] += leaving[i] * (start + slope * np.float32(i))


@numba.njit(cache=True, nogil=True)
def _spread(heard, count):  # type: ignore[no-untyped-def]
    """The first half of the fast Hadamard transform of all lines, in place: within fours."""
    for k in range(0, LINES, 4):
        for i in range(0, count, SAMPLES):
            a, b, c, d = _crossed(
                load(heard[k], i),
                load(heard[k + 1], i),
                load(heard[k + 2], i),
                load(heard[k + 3], i),
            )
            store(heard[k], i, a)
            store(heard[k + 1], i, b)
            store(heard[k + 2], i, c)
            store(heard[k + 3], i, d)


@numba.njit(cache=True, nogil=True)
def _crossed(a, b, c, d):  # type: ignore[no-untyped-def]
    """Sums and differences of neighbours, then of pairs: two steps of the Hadamard matrix."""
    a, b, c, d = a + b, a - b, c + d, c - d
    return a + c, b + d, a - c, b - d


@numba.njit(cache=True, nogil=True)
def _return(heard, count, inputs, entering, angles, within):  # type: ignore[no-untyped-def]
    """What goes back into the lines, in place: the mixed lines, of unit energy, and the new sound.

    The other half of the transform, between fours; then pairs of lines turn into each other,
    further with time: by `angles` and by what is turned within the stretch, of which `within` has
    the cosines and sines, (pairs, 2, frames). `entering` is (channels, at least count).
    """
    unit = splat(np.float32(0.25))
    half = LINES // 2
    for k in range(LINES // 4):
        far, pair = k + LINES // 4, within[k]
        other = within[far]
        cosine, sine = _as_wide(angles[k])
        cosines, sines = _as_wide(angles[far])
        for i in range(0, count, SAMPLES):
            a, b, c, d = _crossed(
                load(heard[k], i),
                load(heard[far], i),
                load(heard[k + half], i),
                load(heard[far + half], i),
            )
            a, c = _turned(a, c, cosine, sine, load(pair[0], i), load(pair[1], i))
            b, d = _turned(b, d, cosines, sines, load(other[0], i), load(other[1], i))
            a, b, c, d = a * unit, b * unit, c * unit, d * unit
            for channel in range(len(entering)):
                new, own = load(entering[channel], i), inputs[:, channel]
                a, b = a + splat(own[k]) * new, b + splat(own[far]) * new
                c, d = c + splat(own[k + half]) * new, d + splat(own[far + half]) * new
            store(heard[k], i, a)
            store(heard[far], i, b)
            store(heard[k + half], i, c)
            store(heard[far + half], i, d)


@numba.njit(cache=True, nogil=True)
def _as_wide(angle):  # type: ignore[no-untyped-def]
    return splat(np.float32(np.cos(angle))), splat(np.float32(np.sin(angle)))


@numba.njit(cache=True, nogil=True)
def _turned(one, two, cosine, sine, within, beside):  # type: ignore[no-untyped-def]
    """Two lines turned into each other."""
    c = cosine * within - sine * beside
    s = sine * within + cosine * beside
    return c * one - s * two, s * one + c * two


@numba.njit(cache=True, nogil=True, fastmath={"contract"})
def _enter(entering, source, first, count, gate, gate_then):  # type: ignore[no-untyped-def]
    """What of the source comes in, (channels, at least count), through a gate, 0 shut to 1 open."""
    start, slope = np.float32(gate), np.float32((gate_then - gate) / count)
    for c in range(len(source)):
        into, sound = entering[c, :count], source[c, first : first + count]
        if start == np.float32(1.0) and slope == np.float32(0.0):
            _copy(sound, into)
            continue
        for i in range(count):
            into[i] = sound[i] * (start + slope * np.float32(i))
