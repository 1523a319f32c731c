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
from metaphon.core.dsp.motion import Motion

Sections = NDArray[np.float64]  # (sections, 5): g, k, and the gains of high-, band- and low-pass
_NONE: Sections = np.zeros((0, 5))
_TOGETHER = 8  # samples that are worked on at once where nothing moves
_GROUPS = 128  # of so many samples, side by side
_STATE = _TOGETHER * _GROUPS  # where the states lie behind the samples
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
        if _is_silent(block, self._state):
            return np.zeros_like(block)
        out = np.empty_like(block)
        sound = np.ascontiguousarray(block)
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
    """What eight samples and the state make of each other, (sections, 6, 8).

    Rows: what the state's two numbers give to each output; the response to a click; what each
    sample adds to the two numbers; and the state eight samples on, by the state before.
    """
    found = np.zeros((count, 6, _TOGETHER))
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
        powers = [np.linalg.matrix_power(step, i) for i in range(_TOGETHER + 1)]
        for i in range(_TOGETHER):
            made[:2, i] = leave @ powers[i]
            made[2, i] = leave @ powers[i - 1] @ enter if i else high + m1 * a2 + m2 * a3
            made[3:5, i] = powers[_TOGETHER - 1 - i] @ enter
        made[5, :4] = powers[_TOGETHER].reshape(-1)
    return found


@numba.njit(cache=True, nogil=True)
def _is_silent(block, state):  # type: ignore[no-untyped-def]
    """Whether there is nothing in a block, (channels, frames), nor in what rings on of before."""
    for value in state.flat:
        if value != 0.0:
            return False
    for channel in range(len(block)):
        for i in range(block.shape[1]):
            if block[channel, i] != 0.0:
                return False
    return True


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

    In a piece, the first samples of all groups of eight lie side by side, then the second, and so
    on, and behind them the states that each group begins with.
    """
    frames = block.shape[1]
    whole = frames - frames % _STATE
    held = np.empty(_STATE + 2 * _GROUPS)
    for channel in range(len(block)):
        for first in range(0, whole, _STATE):
            for b in range(_GROUPS):
                for i in range(_TOGETHER):
                    held[i * _GROUPS + b] = block[channel, first + b * _TOGETHER + i]
            for s in range(len(sections)):
                _states(held, together[s], state[channel, s])
                _outputs(held, together[s])
            for b in range(_GROUPS):
                for i in range(_TOGETHER):
                    out[channel, first + b * _TOGETHER + i] = held[i * _GROUPS + b]
        for i in range(whole, frames):
            sound = float(block[channel, i])
            for s in range(len(sections)):
                sound = _section(sound, sections[s], state[channel, s])
            out[channel, i] = sound
        _rest(state[channel])


@numba.njit(cache=True, nogil=True, fastmath={"contract"})
def _states(held, p, state):  # type: ignore[no-untyped-def]
    """The states that each group of a piece begins with, behind its samples; `state` goes on."""
    n, at, next_to = _GROUPS, _STATE, _STATE + _GROUPS
    e0, e1, e2, e3, e4, e5, e6, e7 = p[3]
    f0, f1, f2, f3, f4, f5, f6, f7 = p[4]
    for b in range(n):
        x0, x1, x2, x3 = held[b], held[n + b], held[2 * n + b], held[3 * n + b]
        x4, x5, x6, x7 = held[4 * n + b], held[5 * n + b], held[6 * n + b], held[7 * n + b]
        held[at + b] = ((e0 * x0 + e1 * x1) + (e2 * x2 + e3 * x3)) + (
            (e4 * x4 + e5 * x5) + (e6 * x6 + e7 * x7)
        )
        held[next_to + b] = ((f0 * x0 + f1 * x1) + (f2 * x2 + f3 * x3)) + (
            (f4 * x4 + f5 * x5) + (f6 * x6 + f7 * x7)
        )
    one, two = state[0], state[1]
    a, b_, c, d = p[5, 0], p[5, 1], p[5, 2], p[5, 3]
    for b in range(n):
        then = a * one + (b_ * two + held[at + b])
        after = d * two + (c * one + held[next_to + b])
        held[at + b], held[next_to + b] = one, two
        one, two = then, after
    state[0], state[1] = one, two


@numba.njit(cache=True, nogil=True, fastmath={"contract"})
def _outputs(held, p):  # type: ignore[no-untyped-def]
    """The outputs of a section in place of what went in, by the states of the groups."""
    n = _GROUPS
    r0, r1, r2, r3, r4, r5, r6, r7 = p[0]
    s0, s1, s2, s3, s4, s5, s6, s7 = p[1]
    h0, h1, h2, h3, h4, h5, h6, h7 = p[2]
    for b in range(n):
        x0, x1, x2, x3 = held[b], held[n + b], held[2 * n + b], held[3 * n + b]
        x4, x5, x6, x7 = held[4 * n + b], held[5 * n + b], held[6 * n + b], held[7 * n + b]
        u, v = held[_STATE + b], held[_STATE + n + b]
        held[b] = r0 * u + s0 * v + h0 * x0
        held[n + b] = r1 * u + s1 * v + (h1 * x0 + h0 * x1)
        held[2 * n + b] = r2 * u + s2 * v + (h2 * x0 + h1 * x1 + h0 * x2)
        held[3 * n + b] = (r3 * u + s3 * v) + ((h3 * x0 + h2 * x1) + (h1 * x2 + h0 * x3))
        held[4 * n + b] = (r4 * u + s4 * v) + ((h4 * x0 + h3 * x1) + (h2 * x2 + h1 * x3)) + h0 * x4
        held[5 * n + b] = (
            (r5 * u + s5 * v) + ((h5 * x0 + h4 * x1) + (h3 * x2 + h2 * x3)) + (h1 * x4 + h0 * x5)
        )
        held[6 * n + b] = (
            (r6 * u + s6 * v)
            + ((h6 * x0 + h5 * x1) + (h4 * x2 + h3 * x3))
            + (h2 * x4 + h1 * x5 + h0 * x6)
        )
        held[7 * n + b] = (
            (r7 * u + s7 * v)
            + ((h7 * x0 + h6 * x1) + (h5 * x2 + h4 * x3))
            + ((h3 * x4 + h2 * x5) + (h1 * x6 + h0 * x7))
        )


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
