"""A room from a feedback network.

Sixteen delays that feed each other without loss but for the decay.
"""

from functools import lru_cache
from typing import ClassVar, Literal, NamedTuple

import numba
import numpy as np
from numpy.typing import NDArray

from metaphon.core.dsp.block import Block
from metaphon.core.dsp.fractional_delay import FractionalDelay
from metaphon.core.dsp.motion import Memo, Motion
from metaphon.core.process.processor import Channels, Processor, Running, parameter, switch

LINES = 16
# Spread over a room's spacings so that no two share a factor once made prime; seconds at size 1.
_SPREAD_S = 0.0171 * 4.6 ** (np.arange(LINES) / (LINES - 1))
_DIFFUSERS_S = (0.0047, 0.0036, 0.0127, 0.0093)
_DIFFUSION = 0.6
_OTHERWISE = np.array([int(f"{k:04b}"[::-1], 2) for k in range(LINES)])  # unlike going in
_STEPS = (1, 2, 4, 8)  # of the fast Hadamard transform
_AT_ONCE = 128  # samples
_GONE = 1e-30  # what has died away so far is kept out of the slow range of numbers
# how fast pairs of lines turn into each other: no mode rings long enough to stand out
_TURNS_HZ = np.array([1.5, -2.2, 2.9, -3.5, 4.2, -5.0, 5.9, -6.9])
_GLIDE = 0.03  # samples a sample: how fast the longest line goes to another length


class NetworkReverb(Processor):
    """A shared space. Decay and its fall towards the treble, size, pre-delay."""

    title: ClassVar[str] = "Network reverb"
    is_reverb: ClassVar[bool] = True

    kind: Literal["network_reverb"] = "network_reverb"
    decay_s: float = parameter(
        2.0,
        0.1,
        30.0,
        unit="s",
        step=0.05,
        scale="log",
        help="Time to fall by 60 dB at low frequencies.",
    )
    treble_decay: float = parameter(
        0.5,
        0.05,
        1.0,
        unit="",
        step=0.01,
        help="Decay at the highest frequencies, as a part of the decay.",
    )
    size: float = parameter(1.0, 0.2, 3.0, unit="", step=0.05, help="Spacing of the reflections.")
    predelay_ms: float = parameter(
        20.0, 0.0, 250.0, unit="ms", step=1.0, help="Time before the room answers."
    )
    wet_only: bool = switch(
        True, help="Give the room alone, as a return should; off adds the dry sound."
    )

    def start(self, channels: Channels, rate_hz: int, latency: int) -> Running:
        return _NetworkReverb(channels, rate_hz)

    @property
    def passes_dry(self) -> bool:
        return not self.wet_only

    def tail_s(self, rate_hz: int) -> float:
        return self.decay_s + self.predelay_ms / 1000.0

    def setting(self, rate_hz: int) -> "_Setting":
        """What these parameters make of the network."""
        seconds = _SPREAD_S * self.size
        low = 10.0 ** (-3.0 * seconds / self.decay_s)
        high = 10.0 ** (-3.0 * seconds / (self.decay_s * self.treble_decay))
        # one pole with gain `low` at 0 Hz and `high` at half the sample rate
        pole = (low - high) / (low + high)
        gain = low * (1.0 - pole)
        level = 1.0 / np.sqrt(LINES * _energy(gain, pole))
        return _Setting(_lengths(self.size, rate_hz), np.concatenate([gain, pole, [level]]))


class _Setting(NamedTuple):
    """What the parameters make of the network."""

    lengths: NDArray[np.int64]  # (LINES), in samples
    numbers: NDArray[np.float64]  # (2 LINES + 1): the gain and the pole of each line, the level


def _energy(gain: NDArray[np.float64], pole: NDArray[np.float64]) -> float:
    """The energy of the network's response: what passes the lines once, twice, and so on."""
    turn = np.exp(-1j * np.linspace(0.0, np.pi, 512))[:, None]
    passing = np.mean(np.abs(gain / (1.0 - pole * turn)) ** 2, axis=1)
    return float(np.mean(passing / (1.0 - np.minimum(passing, 0.999999))))


@lru_cache(256)
def _lengths(size: float, rate_hz: int) -> NDArray[np.int64]:
    return _primes(_SPREAD_S * size * rate_hz)


class _Network(NamedTuple):
    """The delays that feed each other, and their memory."""

    lines: NDArray[np.float64]  # (LINES, longest)
    lengths: NDArray[np.float64]  # (LINES), in samples, on their way to those that are set
    at: NDArray[np.int64]  # (1): where all write next
    filters: NDArray[np.float64]  # (LINES)
    inputs: NDArray[np.float64]  # (LINES, channels)
    outputs: NDArray[np.float64]  # (channels, LINES)


class _Diffusion(NamedTuple):
    """The all-pass delays in front: their memory, their lengths, and where each is in it."""

    delays: NDArray[np.float64]  # (channels, delays, longest)
    lengths: NDArray[np.int64]
    at: NDArray[np.int64]


class _NetworkReverb:
    """Delay lines that feed each other through an orthogonal matrix.

    Per-line gain 10^(-3 d / decay) and a one-pole fall towards the treble.
    Source: Jot & Chaigne 1991.

    All that changes keeps what rings: losses run straight, lengths glide. Each channel enters and
    leaves by signs of its own, of a kind (bent sequences; Rothaus 1976) that no row of the mixing
    matrix resembles, so every line is heard in every channel alike. Pairs of lines turn into each
    other as time goes on (Schlecht & Habets 2015), so that no mode rings alone.

    What comes out has the energy of what went in, shared by all channels alike; in a scene each
    has its part of a diffuse field. Nothing enters an LFE or leaves by one.
    """

    def __init__(self, channels: Channels, rate_hz: int) -> None:
        self._rate_hz = rate_hz
        self._silent = 0  # frames
        self._setting: Memo[NetworkReverb, _Setting] = Memo(lambda one: one.setting(rate_hz))
        self._predelay = FractionalDelay(channels.count)
        turns = 2.0 * np.pi * _TURNS_HZ / rate_hz
        angles = turns[:, None] * np.arange(_AT_ONCE)
        within = np.stack([np.cos(angles), np.sin(angles)], axis=1)
        self._turning = turns, within.astype(np.float32)
        signs = _hadamard()
        enters, leaves = _bent(0), _bent(1)
        own = np.array([c not in channels.lfe for c in range(channels.count)], dtype=float)
        if channels.order is None:
            entering, leaving = own, own * np.sqrt(LINES / max(own.sum(), 1.0))
        else:  # every direction has the same energy, and its W the level of what came in
            entering = 1.0 / (channels.weights * (channels.order + 1))
            leaving = channels.weights * np.sqrt(LINES)
        rows = np.array(
            [np.roll(signs[c % LINES], 5 * (c // LINES)) for c in range(channels.count)]
        )
        longest = int(_lengths(3.0, rate_hz).max()) + _AT_ONCE
        self._network = _Network(
            lines=np.zeros((LINES, longest), dtype=np.float32),
            lengths=np.zeros(LINES),
            at=np.zeros(1, dtype=np.int64),
            filters=np.zeros(LINES),
            inputs=((rows * enters).T * entering / np.sqrt(LINES)).astype(np.float32),
            outputs=(rows[:, _OTHERWISE] * leaves * leaving[:, None]).astype(np.float32),
        )
        lengths = _primes(np.array(_DIFFUSERS_S) * rate_hz)
        self._diffusion = _Diffusion(
            delays=np.zeros(
                (channels.count, len(_DIFFUSERS_S), int(lengths.max())), dtype=np.float32
            ),
            lengths=lengths,
            at=np.zeros(len(_DIFFUSERS_S), dtype=np.int64),
        )

    def process(self, block: Block, parameters: Motion[NetworkReverb], at: int) -> Block:
        source = self._predelay.process(
            block,
            parameters.map(lambda one: float(round(one.predelay_ms * 1e-3 * self._rate_hz))),
        )
        wet = np.empty(block.shape, dtype=np.float32)
        frames, numbers = parameters.map(lambda one: self._setting(one).numbers).arrays()
        lengths = self._setting(parameters.values[-1]).lengths
        if not self._network.lengths.any():
            self._network.lengths[:] = self._setting(parameters.values[0]).lengths
        _run(
            np.ascontiguousarray(source),
            wet,
            at,
            frames,
            numbers,
            lengths,
            self._turning,
            self._network,
            self._diffusion,
        )
        silent = not source.any() and np.abs(wet).max(initial=0.0) < _GONE
        self._silent = self._silent + block.shape[1] if silent else 0
        # what is on its way through a line has not been heard yet
        if self._silent > self._network.lines.shape[1] + self._diffusion.delays.shape[2]:
            self._network.lines[:] = 0.0
            self._diffusion.delays[:] = 0.0
        dry = parameters.map(lambda one: float(not one.wet_only))
        if not dry.moves:
            return wet + block if dry.values[0] else wet
        share = dry.line(block.shape[1]).astype(np.float32)
        return wet + block * share


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


def _primes(lengths: np.ndarray) -> np.ndarray:
    """The next prime above each length, all different, so that echoes seldom coincide."""
    found: list[int] = []
    for length in lengths:
        candidate = int(length)
        while candidate in found or any(
            candidate % k == 0 for k in range(2, int(candidate**0.5) + 1)
        ):
            candidate += 1
        found.append(candidate)
    return np.array(found, dtype=np.int64)


@numba.njit(cache=True, nogil=True)
def _run(source, wet, begin, points, numbers, wanted, turning, network, diffusion):  # type: ignore[no-untyped-def]
    """All lines through a few samples at a time, fewer than the shortest delay holds.

    So loops run along time. `source` and `wet` are (channels, frames); `numbers` are given at
    `points`; `network` and `diffusion` are the state that goes on from block to block.
    """
    lines, lengths, at, filters, inputs, outputs = network
    turns, within = turning
    channels, frames = source.shape
    longest = lines.shape[1]
    most = min(_AT_ONCE, diffusion[1].min())
    heard = np.empty((LINES, most), dtype=np.float32)
    entering = np.empty((channels, most), dtype=np.float32)
    now, then = np.empty(numbers.shape[1]), np.empty(numbers.shape[1])
    for first in range(0, frames, most):
        count = min(most, frames - first)
        _between(now, points, numbers, first)
        _between(then, points, numbers, first + count)
        _enter(entering[:, :count], source[:, first : first + count], diffusion)
        apart = np.abs(wanted - lengths).max()
        share = min(1.0, _GLIDE * count / apart) if apart > 0.0 else 1.0
        for k in range(LINES):
            _tap(heard[k, :count], lines[k], at[0], lengths[k], (wanted[k] - lengths[k]) * share)
            lengths[k] = (
                wanted[k] if share == 1.0 else lengths[k] + (wanted[k] - lengths[k]) * share
            )
        _fall(heard, count, now, then, filters)
        for c in range(channels):
            _mix(wet[c, first : first + count], outputs[c], heard, now[2 * LINES], then[2 * LINES])
        # the fast Hadamard transform in place: sixteen lines mixed without loss
        for step in _STEPS:
            for a in range(LINES):
                if a & step == 0:
                    _butterfly(heard[a, :count], heard[a + step, :count])
        for k in range(LINES // 2):
            _turn(
                heard[k, :count], heard[k + LINES // 2, :count], turns[k], begin + first, within[k]
            )
        for k in range(LINES):
            _return(heard[k, :count], inputs[k], entering)
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
    for i in range(len(heard)):
        place = at + i - length - longer * i / len(heard)
        whole = int(np.floor(place))
        f = place - whole
        a, b = line[(whole - 1) % longest], line[whole % longest]
        c, d = line[(whole + 1) % longest], line[(whole + 2) % longest]
        heard[i] = b + 0.5 * f * (
            c - a + f * (2.0 * a - 5.0 * b + 4.0 * c - d + f * (3.0 * (b - c) + d - a))
        )


@numba.njit(cache=True, nogil=True)
def _enter(entering, source, diffusion):  # type: ignore[no-untyped-def]
    """What goes into the lines, (channels, frames): the source through its diffusers."""
    delays, lengths, at = diffusion
    count = source.shape[1]
    for c in range(len(source)):
        entering[c, :] = source[c]
        for d in range(len(lengths)):
            before = min(count, lengths[d] - at[d])  # the delay's end, where it begins again
            _diffuse(delays[c, d, at[d] :], entering[c, :before])
            _diffuse(delays[c, d], entering[c, before:])
    for d in range(len(lengths)):
        at[d] = (at[d] + count) % lengths[d]


@numba.njit(cache=True, nogil=True)
def _diffuse(delay, sound):  # type: ignore[no-untyped-def]
    """All-pass (Schroeder 1962) over samples (frames) in place; `delay` is its memory."""
    for i in range(len(sound)):
        old = delay[i]
        inner = sound[i] - np.float32(_DIFFUSION) * old
        delay[i] = inner
        sound[i] = old + np.float32(_DIFFUSION) * inner


@numba.njit(cache=True, nogil=True, fastmath={"contract"})
def _fall(heard, count, now, then, filters):  # type: ignore[no-untyped-def]
    """What each line loses a round: its gain and a one-pole fall towards the treble, in place.

    `heard` is (LINES, at least count); `now` and `then` have the gains and poles at both ends;
    `filters` (LINES) is the memory.
    """
    moves = False
    for n in range(2 * LINES):
        moves = moves or now[n] != then[n]
    if moves:
        for k in range(LINES):
            last = filters[k]
            for i in range(count):
                gain = now[k] + (then[k] - now[k]) * i / count
                pole = now[LINES + k] + (then[LINES + k] - now[LINES + k]) * i / count
                last = gain * heard[k, i] + pole * last
                heard[k, i] = last
            filters[k] = last
    else:
        for k in range(0, LINES, 4):  # four at a time: they do not wait for each other
            p, q, r, s = filters[k], filters[k + 1], filters[k + 2], filters[k + 3]
            g0, g1, g2, g3 = now[k], now[k + 1], now[k + 2], now[k + 3]
            n = LINES + k
            p0, p1, p2, p3 = now[n], now[n + 1], now[n + 2], now[n + 3]
            for i in range(count):
                p = g0 * heard[k, i] + p0 * p
                q = g1 * heard[k + 1, i] + p1 * q
                r = g2 * heard[k + 2, i] + p2 * r
                s = g3 * heard[k + 3, i] + p3 * s
                heard[k, i], heard[k + 1, i], heard[k + 2, i], heard[k + 3, i] = p, q, r, s
            filters[k], filters[k + 1], filters[k + 2], filters[k + 3] = p, q, r, s
    for k in range(LINES):
        if abs(filters[k]) < 1e-30:  # keep what has died away out of the slow range of numbers
            filters[k] = 0.0


@numba.njit(cache=True, nogil=True, fastmath={"contract"})
def _mix(wet, outputs, heard, level, level_then):  # type: ignore[no-untyped-def]
    """One output channel, (frames): the sum of all lines by their `outputs` (LINES)."""
    total = np.zeros(len(wet), dtype=np.float32)
    for k in range(0, LINES, 4):  # four at a time: each is read once, the sum seldom
        a, b, c, d = outputs[k], outputs[k + 1], outputs[k + 2], outputs[k + 3]
        for i in range(len(wet)):
            total[i] += (a * heard[k, i] + b * heard[k + 1, i]) + (
                c * heard[k + 2, i] + d * heard[k + 3, i]
            )
    start, slope = np.float32(level), np.float32((level_then - level) / len(wet))
    for i in range(len(wet)):
        wet[i] = total[i] * (start + slope * np.float32(i))


@numba.njit(cache=True, nogil=True)
def _butterfly(one, two):  # type: ignore[no-untyped-def]
    """Sum and difference of two lines, (frames) each, in place: a step of the Hadamard matrix."""
    for i in range(len(one)):
        one[i], two[i] = one[i] + two[i], one[i] - two[i]


@numba.njit(cache=True, nogil=True, fastmath={"contract"})
def _turn(one, two, speed, frame, within):  # type: ignore[no-untyped-def]
    """Turn two lines, (frames) each, into each other in place, further with time.

    `within` has the cosines and sines of what is turned within the stretch, (2, frames).
    """
    cosine, sine = np.float32(np.cos(speed * frame)), np.float32(np.sin(speed * frame))
    for i in range(len(one)):
        c = cosine * within[0, i] - sine * within[1, i]
        s = sine * within[0, i] + cosine * within[1, i]
        one[i], two[i] = c * one[i] - s * two[i], s * one[i] + c * two[i]


@numba.njit(cache=True, nogil=True)
def _return(sound, inputs, entering):  # type: ignore[no-untyped-def]
    """What goes back into a line, (frames): the mixed lines, of unit energy, and the new sound."""
    for i in range(len(sound)):
        sound[i] *= np.float32(0.25)
    for c in range(len(inputs)):
        if inputs[c] != 0.0:
            for i in range(len(sound)):
                sound[i] += inputs[c] * entering[c, i]
