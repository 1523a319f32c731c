"""Filters of second order one after the other, which stay clean and stable while they move.

A section is a state-variable filter by the trapezoidal rule: g says where it is, k how broad, and
three gains how much of its high-pass, band-pass and low-pass is heard. It holds the energy of two
integrators, which a change of g and k does not touch.

Source: A. Simper, "Linear trapezoidal state variable filter" (2013); V. Zavalishin, "The art of VA
filter design", section 4.
"""

from functools import lru_cache
from itertools import zip_longest
from typing import NamedTuple

import numba
import numpy as np
from numpy.typing import ArrayLike, NDArray

from metaphon.core.dsp.block import Block
from metaphon.core.dsp.highest import has_sound
from metaphon.core.dsp.motion import Motion
from metaphon.core.dsp.wide import (
    LANES,
    eight_frames,
    last_of,
    later_by_1,
    later_by_2,
    later_by_4,
    load,
    put_frames,
    splat,
    store,
)

Sections = NDArray[np.float64]  # (sections, 5): g, k, and the gains of high-, band- and low-pass
_NONE: Sections = np.zeros((0, 5))
_NUMBERS = 11 * LANES  # that say what becomes of a piece in a section
_PIECE = LANES * LANES  # samples that are worked on at once where nothing moves: eight eights
_SILENT = 1e-30


def as_sections(numerator: ArrayLike, denominator: ArrayLike) -> Sections:
    """A stable second-order filter as a section.

    Parameters
    ----------
    numerator, denominator
        Of its transfer function in powers of z^-1, (3) each.

    Returns
    -------
        (1, 5).

    References
    ----------
        The transfer functions of the section's three outputs, solved for its gains.
    """
    b, a = (
        np.asarray(part, dtype=float) / np.asarray(denominator)[0]
        for part in (numerator, denominator)
    )
    scale = 4.0 / (1.0 - a[1] + a[2])
    g = np.sqrt((1.0 + a[1] + a[2]) / (1.0 - a[1] + a[2]))
    k = (1.0 - a[2]) * scale / (2.0 * g)
    high = scale * (b[0] - b[1] + b[2]) / 4.0
    band = scale * (b[0] - b[2]) / (2.0 * g)
    low = scale * (b[0] + b[1] + b[2]) / (4.0 * g * g)
    return np.array([[g, k, high, band, low]])


def as_biquads(sections: Sections) -> NDArray[np.float64]:
    """The same filters as numerators and denominators in powers of z^-1, (sections, 6)."""
    g, k, high, band, low = sections.T
    scale = 1.0 + g * (g + k)
    b = [high + band * g + low * g * g, 2.0 * (low * g * g - high), high - band * g + low * g * g]
    a = [scale, 2.0 * (g * g - 1.0), 1.0 - g * k + g * g]
    result: NDArray[np.float64] = np.stack([*b, *a], axis=1) / scale[:, None]
    return result


def passing(sections: Sections) -> Sections:
    """Sections that pass everything whatever they hold, and are otherwise like these."""
    g, k = sections[:, 0], sections[:, 1]
    one = np.ones_like(g)
    return np.stack([g, k, one, k, one], axis=1)


def response(
    sections: Sections, frequencies_hz: NDArray[np.float64], rate_hz: int
) -> NDArray[np.complex128]:
    """What sections do to each frequency, (frequencies)."""
    turn = np.exp(-2j * np.pi * np.asarray(frequencies_hz) / rate_hz)
    powers = np.stack([np.ones_like(turn), turn, turn * turn])
    biquads = as_biquads(sections)
    result: NDArray[np.complex128] = np.prod(
        (biquads[:, :3] @ powers) / (biquads[:, 3:] @ powers), axis=0
    )
    return result


def ring_s(sections: Sections, rate_hz: int, fall_db: float = 60.0) -> float:
    """How long sections ring until they have fallen so far, in seconds, by their slowest pole."""
    _, a1, a2 = as_biquads(sections)[:, 3:].T
    apart = a1 * a1 - 4.0 * a2  # below 0 for a pair of complex poles, whose product is a2
    poles = np.where(
        apart < 0.0, np.sqrt(np.abs(a2)), (np.abs(a1) + np.sqrt(np.maximum(apart, 0.0))) / 2.0
    )
    slowest = min(float(poles.max(initial=0.0)), 1.0 - 1e-9)
    return fall_db / 20.0 * np.log(10.0) / -np.log(slowest) / rate_hz if slowest > 0.0 else 0.0


class _Still(NamedTuple):
    """Groups that do not move, and what is made of them."""

    groups: tuple[Sections, ...]
    sections: Sections
    together: NDArray[np.float64]


class Cascade:
    """Groups of sections at work on every channel alike, in double precision.

    A group, such as a band, keeps its memory whatever becomes of the others. What a group has more
    or fewer of comes and goes as sections that pass everything.
    """

    def __init__(self, channels: int) -> None:
        self._counts: tuple[int, ...] = ()
        self._state = np.zeros((channels, 0, 2))
        self._still: _Still | None = None

    def process(self, block: Block, groups: Motion[tuple[Sections, ...]]) -> Block:
        """Take and give (channels, frames); where sections move their numbers run straight."""
        still = None if groups.moves else self._at_rest(groups.values[0])
        if still is None:
            widest = tuple(
                max((values[place] for values in groups.values if place < len(values)), key=len)
                for place in range(max(map(len, groups.values)))
            )
            self._fit(tuple(len(group) for group in widest))
            self._still = None
        if not self._state.size:
            return block
        sound = np.ascontiguousarray(block)
        if not self._state.any() and not has_sound(sound):
            return np.zeros_like(block)
        out = np.empty_like(block)
        if still is not None:
            _stand(sound, out, still.sections, still.together, self._state)
        else:
            frames, moving = groups.map(lambda values: _filled(values, widest)).arrays()
            _move(sound, out, frames, moving, self._state)
            self._fit(tuple(len(group) for group in groups.values[-1]))
        return out

    def _at_rest(self, groups: tuple[Sections, ...]) -> "_Still":
        if self._still is None or self._still.groups is not groups:
            own = np.concatenate(groups) if groups else _NONE
            self._still = _Still(groups, own, _together(own.tobytes(), len(own)))
            self._fit(tuple(len(group) for group in groups))
        return self._still

    def _fit(self, counts: tuple[int, ...]) -> None:
        if counts == self._counts:
            return
        state = np.zeros((len(self._state), sum(counts), 2))
        old = new = 0
        for had, has in zip_longest(self._counts, counts, fillvalue=0):
            kept = min(had, has)
            state[:, new : new + kept] = self._state[:, old : old + kept]
            old, new = old + had, new + has
        self._counts, self._state = counts, state


def _filled(groups: tuple[Sections, ...], widest: tuple[Sections, ...]) -> Sections:
    """All groups after one another, each filled up to the widest with sections that pass."""
    found = []
    for own, most in zip_longest(groups, widest, fillvalue=_NONE):
        found += [own, passing(most[len(own) :])]
    return np.concatenate(found)


@lru_cache(4096)
def _together(sections: bytes, count: int) -> NDArray[np.float64]:
    """What eight samples and the state make of each other, (sections, 11, 8).

    Rows: what the state's two numbers give to each output; the response to a click; what each
    sample adds to the two numbers; the state 8 and 16, 32 and 64 samples on, by the state before
    (four numbers each); and those four for 0, 8, 16 and up to 56 samples on, a row each.
    """
    found = np.zeros((count, _NUMBERS // LANES, LANES))
    for made, (g, k, high, band, low) in zip(
        found, np.frombuffer(sections).reshape(count, 5), strict=True
    ):
        a1 = 1.0 / (1.0 + g * (g + k))
        a2 = g * a1
        a3 = g * a2
        m1, m2 = band - high * k, low - high
        step = np.array([[2.0 * a1 - 1.0, -2.0 * a2], [2.0 * a2, 1.0 - 2.0 * a3]])
        enter = np.array([2.0 * a2, 2.0 * a3])
        leave = np.array([m1 * a1 + m2 * a2, m2 * (1.0 - a3) - m1 * a2])
        powers = [np.linalg.matrix_power(step, i) for i in range(_PIECE + 1)]
        for i in range(LANES):
            made[:2, i] = leave @ powers[i]
            made[2, i] = leave @ powers[i - 1] @ enter if i else high + m1 * a2 + m2 * a3
            made[3:5, i] = powers[LANES - 1 - i] @ enter
            made[7:, i] = powers[LANES * i].reshape(-1)
        made[5:7] = np.concatenate([powers[n].reshape(-1) for n in (8, 16, 32, 64)]).reshape(2, 8)
    return found


@numba.njit(cache=True, nogil=True)
def _rest(state):  # type: ignore[no-untyped-def]
    """Keep a state, (sections, 2), out of the slow range of numbers."""
    for s in range(len(state)):
        for n in range(2):
            if abs(state[s, n]) < _SILENT:
                state[s, n] = 0.0


@numba.njit(cache=True, nogil=True, fastmath={"contract"})
def _stand(block, out, sections, together, state):  # type: ignore[no-untyped-def]
    """Sections that do not move; what is left over of whole pieces one sample after the other.

    The first samples of all eights of a piece lie side by side, then the second, and so on.
    """
    channels, frames = block.shape
    whole = frames - frames % _PIECE
    eights, made = np.arange(LANES) * LANES, np.empty(_PIECE)
    made_of, states = together.reshape(-1), state.reshape(-1)
    for channel in range(channels):
        at = channel * 2 * len(sections)
        for first in range(channel * frames, channel * frames + whole, _PIECE):
            sound = eight_frames(block, eights, first)
            for s in range(len(sections)):
                sound = _through(sound, made_of, s * _NUMBERS, states, at + 2 * s)
            for i in range(LANES):
                store(made, i * LANES, sound[i])
            put_frames(made, out, eights, first)
        for i in range(whole, frames):
            sample = float(block[channel, i])
            for s in range(len(sections)):
                sample = _section(sample, sections[s], state[channel, s])
            out[channel, i] = sample
        _rest(state[channel])


@numba.njit(cache=True, nogil=True, fastmath={"contract"})
def _through(sound, p, n, state, at):  # type: ignore[no-untyped-def]
    """A piece through one section, of which `together` says what it does; the state goes on."""
    a, b, c, d, e, f, g, h = sound
    one = _sum_of(sound, p, n + 24)
    two = _sum_of(sound, p, n + 32)
    # what each eight adds to the states behind it: from the one before, the two, the four
    one, two = _carried(one, two, later_by_1(one), later_by_1(two), p, n + 40)
    one, two = _carried(one, two, later_by_2(one), later_by_2(two), p, n + 44)
    one, two = _carried(one, two, later_by_4(one), later_by_4(two), p, n + 48)
    first, second = splat(state[at]), splat(state[at + 1])
    u = load(p, n + 56) * first + load(p, n + 64) * second + later_by_1(one)
    v = load(p, n + 72) * first + load(p, n + 80) * second + later_by_1(two)
    first_then = p[n + 52] * state[at] + (p[n + 53] * state[at + 1] + last_of(one))
    state[at + 1] = p[n + 54] * state[at] + (p[n + 55] * state[at + 1] + last_of(two))
    state[at] = first_then
    h0, h1, h2, h3 = splat(p[n + 16]), splat(p[n + 17]), splat(p[n + 18]), splat(p[n + 19])
    h4, h5, h6, h7 = splat(p[n + 20]), splat(p[n + 21]), splat(p[n + 22]), splat(p[n + 23])
    return (
        _heard(h0 * a, u, v, p, n + 0),
        _heard(h1 * a + h0 * b, u, v, p, n + 1),
        _heard(h2 * a + h1 * b + h0 * c, u, v, p, n + 2),
        _heard(h3 * a + h2 * b + h1 * c + h0 * d, u, v, p, n + 3),
        _heard(h4 * a + h3 * b + h2 * c + h1 * d + h0 * e, u, v, p, n + 4),
        _heard(h5 * a + h4 * b + h3 * c + h2 * d + h1 * e + h0 * f, u, v, p, n + 5),
        _heard(h6 * a + h5 * b + h4 * c + h3 * d + h2 * e + h1 * f + h0 * g, u, v, p, n + 6),
        _heard(
            h7 * a + h6 * b + h5 * c + h4 * d + h3 * e + h2 * f + h1 * g + h0 * h, u, v, p, n + 7
        ),
    )


@numba.njit(cache=True, nogil=True)
def _sum_of(sound, p, n):  # type: ignore[no-untyped-def]
    """Eight frames by eight numbers."""
    a, b, c, d, e, f, g, h = sound
    one, two = splat(p[n]) * a + splat(p[n + 4]) * e, splat(p[n + 1]) * b + splat(p[n + 5]) * f
    three, four = splat(p[n + 2]) * c + splat(p[n + 6]) * g, splat(p[n + 3]) * d
    return (one + two) + (three + (four + splat(p[n + 7]) * h))


@numba.njit(cache=True, nogil=True)
def _carried(one, two, earlier, second, p, n):  # type: ignore[no-untyped-def]
    """Two numbers with those of eights before, which have gone on by a matrix, (4)."""
    return (
        one + splat(p[n]) * earlier + splat(p[n + 1]) * second,
        two + splat(p[n + 2]) * earlier + splat(p[n + 3]) * second,
    )


@numba.njit(cache=True, nogil=True)
def _heard(sound, u, v, p, n):  # type: ignore[no-untyped-def]
    """What comes of the sound, which is known first, and of the states."""
    return sound + splat(p[n]) * u + splat(p[n + 8]) * v


@numba.njit(cache=True, nogil=True, fastmath={"contract"})
def _move(block, out, frames, sections, state):  # type: ignore[no-untyped-def]
    """Sections whose five numbers run in straight lines between `frames`."""
    count, last = block.shape[1], len(frames) - 1
    now = np.empty(5)
    sound = np.empty(count)
    for channel in range(len(block)):
        for i in range(count):
            sound[i] = block[channel, i]
        for s in range(sections.shape[1]):
            point = 0
            for i in range(count):
                while point < last and frames[point + 1] <= i:
                    point += 1
                after = min(point + 1, last)
                span = frames[after] - frames[point]
                along = (i - frames[point]) / span if span > 0 and i > frames[point] else 0.0
                for n in range(5):
                    from_here = sections[point, s, n]
                    now[n] = from_here + (sections[after, s, n] - from_here) * along
                sound[i] = _section(sound[i], now, state[channel, s])
        for i in range(count):
            out[channel, i] = sound[i]
        _rest(state[channel])


@numba.njit(cache=True, nogil=True, fastmath={"contract"})
def _section(sound, section, state):  # type: ignore[no-untyped-def]
    """One sample through one section; `state` (2) goes on."""
    g, k = section[0], section[1]
    a1 = 1.0 / (1.0 + g * (g + k))
    a2 = g * a1
    rest = sound - state[1]
    band = a1 * state[0] + a2 * rest
    low = state[1] + a2 * state[0] + g * a2 * rest
    state[0] = 2.0 * band - state[0]
    state[1] = 2.0 * low - state[1]
    return section[2] * (sound - k * band - low) + section[3] * band + section[4] * low
