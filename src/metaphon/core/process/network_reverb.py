"""A room from a feedback network: sixteen delays that feed each other."""

from functools import lru_cache
from typing import Any, ClassVar, Literal, NamedTuple

import numba
import numpy as np
from numpy.typing import NDArray

from metaphon.core.dsp.block import Block
from metaphon.core.dsp.feedback_network import (
    LINES,
    MOST_SWAY,
    PER_LINE,
    SHELF_K,
    FeedbackNetwork,
    primes,
)
from metaphon.core.dsp.motion import Memo, Motion
from metaphon.core.dsp.wide import SAMPLES, load, store
from metaphon.core.process.channel_shares import own_channels
from metaphon.core.process.early_reflections import EarlyReflections, longest_samples
from metaphon.core.process.processor import Channels, Processor, Running, choice, parameter
from metaphon.core.process.reverb import FALL, Reverb, RoomAround

# Spread over a room's spacings so that no two share a factor once made prime; seconds at size 1.
_SPREAD_S = 0.0171 * 4.6 ** (np.arange(LINES) / (LINES - 1))
# all-pass delays in front: short ones that make reflections many, long ones that let them build up
_DIFFUSERS_S = (0.0047, 0.0036, 0.0127, 0.0093, 0.0311, 0.0437)
_AT_ONCE = 2048  # samples, which stay in the nearest memory
_LONG = 4  # from here on they build up
# an all-pass rings longer the nearer its coefficient is to 1, where it would do nothing: from the
# first on it is put in by degrees, and then its coefficient falls
_FAINT, _RINGING, _FALLS = 0.2, 0.9, 0.37
_GONE = 1e-30
_MOST_APART = 3.0  # powers of ten between the losses of two bands in one round
# what is made up for of what the first round loses: a large room that dies away before its first
# reflections have come is soft
_LEAST_ENERGY = 0.02
_HIGHEST_HZ = 20000.0  # where damping is told, of a network at a rate
_DAMPED_AT_HZ = 48000
_LOUD_TO_HZ = 24000.0
_ALIKE_HZ = 8000.0  # where it is the same at every rate

Line = NDArray[np.float64]


class NetworkReverb(Reverb):
    """A shared space made by rule: how long it sounds at each frequency, how large it is."""

    title: ClassVar[str] = "Network reverb"
    starting_points: ClassVar[dict[str, dict[str, Any]]] = {
        "Small room": {
            "decay_s": 0.4,
            "bass_decay": 0.9,
            "treble_decay": 0.7,
            "damping": 0.2,
            "size": 0.35,
            "predelay_ms": 3.0,
            "diffusion": 0.7,
            "build_up": 0.0,
            "early": 0.5,
        },
        "Large hall": {
            "decay_s": 2.4,
            "bass_decay": 1.15,
            "treble_decay": 0.6,
            "damping": 0.35,
            "size": 1.8,
            "predelay_ms": 28.0,
            "diffusion": 0.85,
            "build_up": 0.6,
            "early": 0.2,
        },
        "Plate": {
            "decay_s": 1.8,
            "bass_decay": 0.8,
            "treble_decay": 0.9,
            "damping": 0.1,
            "size": 0.6,
            "predelay_ms": 0.0,
            "diffusion": 1.0,
            "build_up": 0.2,
            "early": 0.0,
        },
        "Outdoors": {
            "decay_s": 1.2,
            "bass_decay": 0.5,
            "treble_decay": 0.35,
            "damping": 0.6,
            "size": 3.0,
            "predelay_ms": 70.0,
            "diffusion": 0.3,
            "build_up": 0.0,
            "early": 0.7,
        },
    }

    kind: Literal["network_reverb"] = "network_reverb"
    decay_s: float = parameter(
        2.0,
        0.1,
        30.0,
        unit="s",
        step=0.05,
        scale="log",
        group="Decay",
        help="Time to fall by 60 dB between the two corners.",
    )
    bass_decay: float = parameter(
        1.0,
        0.1,
        4.0,
        unit="",
        step=0.01,
        scale="log",
        group="Decay",
        help="Decay below the bass corner, as a part of the decay.",
    )
    treble_decay: float = parameter(
        0.5,
        0.05,
        2.0,
        unit="",
        step=0.01,
        scale="log",
        group="Decay",
        help="Decay above the treble corner, as a part of the decay.",
    )
    bass_corner_hz: float = parameter(
        200.0,
        40.0,
        1000.0,
        unit="Hz",
        step=1.0,
        scale="log",
        group="Decay",
        help="Corner between the bass and the middle.",
    )
    treble_corner_hz: float = parameter(
        4000.0,
        1200.0,
        12000.0,
        unit="Hz",
        step=10.0,
        scale="log",
        group="Decay",
        help="Corner between the middle and the treble.",
    )
    damping: float = parameter(
        0.0,
        0.0,
        0.9,
        unit="",
        step=0.01,
        group="Decay",
        help="How much of the treble's decay the air takes at 20 kHz.",
    )
    size: float = parameter(
        1.0, 0.2, 3.0, unit="", step=0.05, group="Space", help="Spacing of the reflections."
    )
    early: float = parameter(
        0.0,
        0.0,
        0.9,
        unit="",
        step=0.01,
        group="Reflections",
        help="Part of the room's energy that comes as first reflections, by geometry.",
    )
    diffusion: float = parameter(
        0.85,
        0.0,
        1.0,
        unit="",
        step=0.01,
        group="Reflections",
        help="How soon single reflections become many.",
    )
    build_up: float = parameter(
        0.0,
        0.0,
        1.0,
        unit="",
        step=0.01,
        group="Reflections",
        help="How slowly the room rises: 0 at once, 1 over a tenth of a second.",
    )
    sway_ms: float = parameter(
        0.0,
        0.0,
        0.5,
        unit="ms",
        step=0.01,
        group="Reflections",
        help="How far reflections move to and fro: loosens the pitch of a long tail.",
    )
    sway_rate_hz: float = parameter(
        0.5,
        0.05,
        3.0,
        unit="Hz",
        step=0.05,
        scale="log",
        moves=False,
        group="Reflections",
        help="How often they do.",
    )
    hold: float = parameter(
        0.0,
        0.0,
        1.0,
        unit="",
        step=1.0,
        group="Hold",
        help="1 keeps what sounds as it is until 0 lets it die away.",
    )
    hold_input: Literal["shut", "heard"] = choice(
        "shut", group="Hold", help="Whether what comes in while it holds is heard in the room."
    )
    hold_end: Literal["time", "marker", "released"] = choice(
        "time",
        group="Hold",
        help="A hold that is on at the end of the mix: goes on for a time, to the last marker, or "
        "until it is let go while playing. A render waits for the time, then lets go.",
    )
    hold_end_s: float = parameter(
        10.0,
        0.0,
        600.0,
        unit="s",
        step=0.5,
        moves=False,
        group="Hold",
        help="How long a hold that is on at the end goes on after the last recording.",
    )

    def start(self, channels: Channels, rate_hz: int, latency: int) -> Running:
        return _NetworkReverb(channels, rate_hz)

    def tail_s(self, rate_hz: int, fall_db: float = 60.0) -> float:
        longest = fall_db / 60.0 * self.decay_s * max(1.0, self.bass_decay, self.treble_decay)
        early = longest_samples(rate_hz, self.size) / rate_hz if self.early else 0.0
        late = longest + float(_lengths(self.size, rate_hz).max()) / rate_hz
        late += self._diffusing_s(fall_db)
        return self.around_s(rate_hz, fall_db) + max(late, early)

    def _diffusing_s(self, fall_db: float) -> float:
        """How long the all-pass delays in front ring: the slowest, once through all of them."""
        coefficients = _texture(self)[[1, 1, 1, 1, 3, 3]]
        used = _texture(self)[[0, 0, 0, 0, 2, 2]] > 0.0
        seconds = np.where(used, _DIFFUSERS_S, 0.0)
        rings = seconds * fall_db / (-20.0 * np.log10(coefficients))
        return float(rings.max() + seconds.sum())

    @property
    def is_endless(self) -> bool:
        return self.hold > 0.0

    @property
    def room_alone(self) -> Processor:
        return self.model_copy(update={"wet_only": True, "hold": 0.0})

    def decay_at_s(self, frequencies_hz: NDArray[np.float64], rate_hz: int) -> Line:
        """The decay time at each frequency, by the losses of all lines together."""
        lost = -np.log10(np.abs(_passing(self.setting(rate_hz).numbers, frequencies_hz, rate_hz)))
        seconds = _lengths(self.size, rate_hz) / rate_hz
        return np.asarray(FALL * seconds.sum() / np.maximum(lost.sum(axis=1), 1e-9))

    def setting(self, rate_hz: int) -> "_Setting":
        """What these parameters make of the network."""
        lengths = _lengths(self.size, rate_hz)
        seconds = (lengths + 0.5 * self.sway_ms * 1e-3 * rate_hz) / rate_hz
        lost = FALL * seconds / self.decay_s  # powers of ten a round
        sway = min(self.sway_ms * 1e-3 * rate_hz, MOST_SWAY, 0.25 * float(lengths.min()))
        numbers = np.concatenate([self._losing(lost, rate_hz), [1.0, sway, 1.0]])
        energy = _energy(numbers, rate_hz)
        numbers[-3] = np.sqrt((1.0 - self.early) / (LINES * max(energy, _LEAST_ENERGY)))
        if self.hold >= 0.5 and self.hold_input == "shut":
            numbers[-1] = 0.0
        left = 1.0 - float(np.clip(self.hold, 0.0, 1.0))
        rest = [numbers[-3], left * sway, left * numbers[-1]]
        held = np.concatenate([self._losing(left * lost, rate_hz), rest])
        return _Setting(lengths, numbers, held)

    def _losing(self, lost: Line, rate_hz: int) -> Line:
        """How lines lose powers of ten a round, and more or less of bass and treble."""
        bass, treble = (
            10.0 ** np.clip(lost - lost / ratio, -_MOST_APART, _MOST_APART)
            for ratio in (self.bass_decay, self.treble_decay)
        )
        low = _low_shelf(bass, self.bass_corner_hz, rate_hz)
        high = _high_shelf(treble, self.treble_corner_hz, rate_hz)
        top = 10.0 ** (-lost / self.treble_decay * self.damping / (1.0 - self.damping))
        damped = _passed(_pole(top, _HIGHEST_HZ, _DAMPED_AT_HZ), _ALIKE_HZ, _DAMPED_AT_HZ)
        pole = _pole(damped, _ALIKE_HZ, rate_hz)
        return np.concatenate([10.0**-lost, *low, *high, pole])


_LEAST_GAIN = 1e-12
_MOST_STEPS = 256


class _Setting(NamedTuple):
    """What the parameters make of the network.

    Lengths in samples, (LINES), and the numbers of the lines at work and of those that are held.
    """

    lengths: NDArray[np.int64]
    numbers: Line
    held: Line


def _in_steps(settings: Motion[_Setting]) -> Motion[_Setting]:
    """A motion of settings in steps so small that numbers may run straight between them.

    What is lost and what shelves give back are large and almost cancel; half of the one and half of
    the other would be far more than either end lets through.
    """
    frames, values = [settings.frames[0]], [settings.values[0]]
    for frame, value in zip(settings.frames[1:], settings.values[1:], strict=True):
        before, first = values[-1], frames[-1]
        count = max(_steps(one, other) for one, other in zip(before[1:], value[1:], strict=True))
        count = min(count, max(frame - first, 1))
        for n in range(1, count):
            part = n / count
            pairs = zip(before[1:], value[1:], strict=True)
            frames.append(first + round(part * (frame - first)))
            values.append(_Setting(value.lengths, *(_between(*pair, part) for pair in pairs)))
        frames.append(frame)
        values.append(value)
    return Motion(tuple(frames), tuple(values))


def _steps(one: Line, other: Line) -> int:
    """How many steps from some numbers to others no line's loss goes by more than 3 dB in."""
    gains = [np.log10(np.maximum(numbers[:LINES], _LEAST_GAIN)) for numbers in (one, other)]
    return int(np.clip(np.ceil(np.abs(gains[1] - gains[0]).max() / 0.15), 1, _MOST_STEPS))


def _between(one: Line, other: Line, part: float) -> Line:
    """Numbers a part of the way from some to others, losses and shelves in proportion in dB."""
    found = one + part * (other - one)
    head = found[: LINES * PER_LINE].reshape(PER_LINE, LINES)
    ends = [
        numbers[: LINES * PER_LINE].reshape(PER_LINE, LINES)[[0, 3, 5]] + [[0.0], [1.0], [0.0]]
        for numbers in (one, other)
    ]
    low, high = (np.maximum(end, _LEAST_GAIN) for end in ends)
    gain, bass, treble = low ** (1.0 - part) * high**part
    a, b = np.sqrt(bass), np.sqrt(treble)
    head[0] = gain
    head[2], head[3] = SHELF_K * (a - 1.0), bass - 1.0
    head[5], head[6], head[7] = treble, SHELF_K * (1.0 - b) * b, 1.0 - treble
    return found


def _low_shelf(gain: Line, corner_hz: float, rate_hz: int) -> tuple[Line, Line, Line]:
    """A shelf by its gain at 0 Hz: g and what of its band-pass and low-pass is added (Simper)."""
    a = np.sqrt(gain)
    g = np.tan(np.pi * corner_hz / rate_hz) / np.sqrt(a)
    return g, SHELF_K * (a - 1.0), a * a - 1.0


def _high_shelf(gain: Line, corner_hz: float, rate_hz: int) -> tuple[Line, Line, Line, Line]:
    """A shelf by its gain at the top: g and the gains of the sound, its band- and its low-pass."""
    a = np.sqrt(gain)
    g = np.tan(np.pi * min(corner_hz, 0.45 * rate_hz) / rate_hz) * np.sqrt(a)
    return g, a * a, SHELF_K * (1.0 - a) * a, 1.0 - a * a


def _pole(gain: Line, at_hz: float, rate_hz: int) -> Line:
    """The pole of a one-pole low-pass, 1 at 0 Hz, that has a gain at a frequency."""
    square = np.maximum(gain, 1e-3) ** 2
    # |(1 - p) / (1 - p z)|^2 = gain^2, a quadratic in p
    c = np.cos(2.0 * np.pi * at_hz / rate_hz)
    b = 1.0 - square * c
    inside = np.sqrt(np.maximum(b * b - (1.0 - square) ** 2, 0.0))
    return np.asarray(np.where(square < 1.0, (b - inside) / np.maximum(1.0 - square, 1e-12), 0.0))


def _passed(pole: Line, at_hz: float, rate_hz: int) -> Line:
    """The gain of a one-pole low-pass at a frequency."""
    return np.abs(_through_pole(pole, np.array(at_hz), rate_hz))


def _through_pole(pole: Line, frequencies_hz: Line, rate_hz: int) -> NDArray[np.complex128]:
    """What a one-pole low-pass, 1 at 0 Hz, makes of frequencies."""
    z = np.exp(-2j * np.pi * frequencies_hz / rate_hz)
    return np.asarray((1.0 - pole) / (1.0 - pole * z))


def _passing(numbers: Line, frequencies_hz: Line, rate_hz: int) -> NDArray[np.complex128]:
    """What each line passes of each frequency in a round, (frequencies, LINES)."""
    gain, g1, b1, l1, g2, m2, b2, l2, pole = numbers[: LINES * PER_LINE].reshape(PER_LINE, LINES)
    # the trapezoidal rule maps s to i tan(w / 2)
    s = 1j * np.tan(np.pi * np.minimum(frequencies_hz, 0.4999 * rate_hz) / rate_hz)[:, None]
    under = (s / g1) ** 2 + SHELF_K * s / g1 + 1.0
    low = 1.0 + (b1 * s / g1 + l1) / under
    under = (s / g2) ** 2 + SHELF_K * s / g2 + 1.0
    high = m2 + (b2 * s / g2 + l2) / under
    return gain * low * high * _through_pole(pole, frequencies_hz[:, None], rate_hz)


def _energy(numbers: Line, rate_hz: int) -> float:
    """The energy of the network's response: what passes the lines once, twice, and so on.

    As far up as it can be heard, so that a room is as loud at any rate.
    """
    # in the middle of stretches that grow, so that the bass is told as finely as it is shaped
    edges = np.concatenate([[0.0], np.geomspace(20.0, min(0.5 * rate_hz, _LOUD_TO_HZ), 96)])
    passing = _passing(numbers, 0.5 * (edges[1:] + edges[:-1]), rate_hz)
    part = np.mean(np.abs(passing) ** 2, axis=1)
    part = part / (1.0 - np.minimum(part, 0.999999))
    return float(np.sum(part * np.diff(edges)) / _LOUD_TO_HZ)


@lru_cache(256)
def _lengths(size: float, rate_hz: int) -> NDArray[np.int64]:
    return primes(tuple((_SPREAD_S * size * rate_hz).astype(int).tolist()))


def _texture(one: NetworkReverb) -> Line:
    """The share and the coefficient of the short and of the long all-pass delays, (4)."""
    found = []
    for amount in (one.diffusion, one.build_up):
        beyond = max(amount - _FAINT, 0.0) / (1.0 - _FAINT)
        found += [min(amount / _FAINT, 1.0), _RINGING - _FALLS * beyond]
    return np.array(found)


class _Diffusion(NamedTuple):
    """The all-pass delays in front: their memory, their lengths, and where each is in it."""

    delays: NDArray[np.float32]  # (channels, delays, longest)
    lengths: NDArray[np.int64]
    at: NDArray[np.int64]


class _NetworkReverb:
    """What comes out has the energy of what went in, shared by all channels alike.

    In a scene each has its part of a diffuse field. Nothing enters an LFE or leaves by one.
    All that changes keeps what rings: losses run straight, lengths glide.
    """

    def __init__(self, channels: Channels, rate_hz: int) -> None:
        self._silent = 0  # frames
        self._setting: Memo[NetworkReverb, _Setting] = Memo(lambda one: one.setting(rate_hz))
        self._around = RoomAround(channels, rate_hz)
        self._early = EarlyReflections(channels, rate_hz)
        own = own_channels(channels)
        if channels.order is None:
            entering, leaving = own, own * np.sqrt(LINES / max(own.sum(), 1.0))
        else:  # every direction has the same energy, and its W the level of what came in
            entering = 1.0 / (channels.weights * (channels.order + 1))
            leaving = channels.weights * np.sqrt(LINES)
        longest = int(_lengths(3.0, rate_hz).max())
        self._network = FeedbackNetwork(entering, leaving, longest, rate_hz)
        lengths = primes(tuple(int(s * rate_hz) for s in _DIFFUSERS_S))
        self._diffusion = _Diffusion(
            np.zeros((channels.count, len(lengths), int(lengths.max())), dtype=np.float32),
            lengths,
            np.zeros(len(lengths), dtype=np.int64),
        )

    def process(self, block: Block, parameters: Motion[NetworkReverb], at: int) -> Block:
        return self._around.process(
            block, parameters, lambda source: self._room(source, parameters, at)
        )

    def _room(self, source: Block, parameters: Motion[NetworkReverb], at: int) -> Block:
        held = [one.hold >= 0.5 for one in parameters.values]
        if any(held) and not self._network.is_held:
            self._network.hold()
        entering = np.array(source, dtype=np.float32)
        _diffuse(entering, *parameters.map(_texture).arrays(), self._diffusion)
        settings = _in_steps(parameters.map(self._setting))
        wet = self._network.process(
            entering,
            at,
            settings.values[-1].lengths,
            parameters.values[-1].sway_rate_hz,
            np.array(settings.frames, dtype=np.int64),
            np.array([one.numbers for one in settings.values]),
            np.array([one.held for one in settings.values]),
        )
        if self._network.is_held and not held[-1]:
            self._network.release()
        wet += self._reflected(source, parameters)
        self._rest(source, wet)
        return wet

    def _reflected(self, source: Block, parameters: Motion[NetworkReverb]) -> Block:
        level = parameters.map(lambda one: float(np.sqrt(one.early)))
        return self._early.process(source, parameters.map(lambda one: one.size), level)

    def _rest(self, source: Block, wet: Block) -> None:
        """Forget what is too soft to be heard, once all of it has come out."""
        silent = not source.any() and np.abs(wet).max(initial=0.0) < _GONE
        self._silent = self._silent + source.shape[1] if silent else 0
        if self._silent > self._network.longest + self._diffusion.delays.shape[2]:
            self._network.forget()
            self._diffusion.delays[:] = 0.0


@numba.njit(cache=True, nogil=True)
def _diffuse(sound, frames, texture, diffusion):  # type: ignore[no-untyped-def]
    """Sound, (channels, frames), through all-pass delays in place (Schroeder 1962).

    `texture` has the share and the coefficient of the short and of the long ones at `frames`,
    (points, 4). What has no share is not worked on, and forgets.
    """
    delays, lengths, at = diffusion
    channels, count = sound.shape
    lines = np.empty((4, _AT_ONCE), dtype=np.float32)
    for first in range(0, count, _AT_ONCE):
        some = min(_AT_ONCE, count - first)
        if first == 0 or len(frames) > 1:
            for n in range(4):
                lines[n] = np.interp(first + np.arange(_AT_ONCE), frames, texture[:, n])
        for d in range(len(lengths)):
            which = 2 if d >= _LONG else 0
            if not texture[:, which].any():
                if first == 0:
                    delays[:, d, :] = 0.0
                continue
            share, own = lines[which], lines[which + 1]
            for c in range(channels):
                place, i = at[d], 0
                while i < some:
                    stop = min(i + lengths[d] - place, some)
                    _all_pass(delays[c, d], place, sound[c], first, own, share, i, stop)
                    place, i = (place + stop - i) % lengths[d], stop
            at[d] = (at[d] + some) % lengths[d]


@numba.njit(cache=True, nogil=True, fastmath={"contract"})  # as in wide registers
def _all_pass(delay, place, sound, first, own, share, begin, end):  # type: ignore[no-untyped-def]
    """A stretch of a sound, no longer than the delay that it goes through; each sample alone.

    The samples from `begin` up to `end` after `first`; `place` is where the delay has the first.
    """
    into, after = place - begin, begin + (end - begin) // SAMPLES * SAMPLES
    for i in range(begin, after, SAMPLES):
        old, x, g = load(delay, into + i), load(sound, first + i), load(own, i)
        inner = x - g * old
        store(delay, into + i, inner)
        store(sound, first + i, x + load(share, i) * (old + g * inner - x))
    for i in range(after, end):
        old, x = delay[into + i], sound[first + i]
        inner = x - own[i] * old
        delay[into + i] = inner
        sound[first + i] = x + share[i] * (old + own[i] * inner - x)
