"""Loudness of a programme by ITU-R BS.1770-5 and EBU Tech 3341 and 3342."""

import numba
import numpy as np
from numpy.typing import NDArray

from metaphon.core.dsp.wide import LANES, eight_frames, load, one_frame, splat, store
from metaphon.core.spatial.layouts import Layout

_HOP_S = 0.01  # how finely windows are moved to find the loudest one (EBU Tech 3341, 2.5)
_MOMENTARY = 40  # hops
_SHORT_TERM = 300
_TENTH = 10  # hops from one reading of the course, and one gating block, to the next
_OFFSET = -0.691
_NOTHING = 1e-30


def k_weighting(rate_hz: float) -> NDArray[np.float64]:
    """The two K-weighting stages at any sample rate.

    At 48 kHz they are the published tables; elsewhere the same analogue filters, transformed anew.

    Returns
    -------
        Second-order sections, (2, 6).

    References
    ----------
        ITU-R BS.1770-5, annex 1.
    """
    rows = []
    # Resonance and quality read back from the 48 kHz tables; numerators per stage (s^2, s, 1).
    for centre, quality, top in (
        (1681.974450955533, 0.7071752369554196, _shelf),
        (38.13547087602444, 0.5003270373238773, _high_pass),
    ):
        warped = 2.0 * rate_hz * np.tan(np.pi * centre / rate_hz)
        b, a = (
            _bilinear(quadratic, rate_hz)
            for quadratic in (top(warped, quality), [1.0, warped / quality, warped**2])
        )
        rows.append([*(b / a[0]), *(a / a[0])])
    # The standard writes the second numerator as 1, -2, 1 whatever its gain.
    rows[1][:3] = [1.0, -2.0, 1.0]
    return np.array(rows)


def _bilinear(quadratic: list[float], rate_hz: float) -> NDArray[np.float64]:
    """A quadratic in s with s = 2 rate (1 - z^-1) / (1 + z^-1), in powers of z^-1."""
    two, one, none = quadratic
    s = 2.0 * rate_hz
    return np.array(
        [
            two * s * s + one * s + none,
            2.0 * (none - two * s * s),
            two * s * s - one * s + none,
        ]
    )


def _shelf(warped: float, quality: float) -> list[float]:
    high = 10.0 ** (3.999843853973347 / 20.0)
    middle = high**0.4996667741545416
    return [high, middle * warped / quality, warped**2]


def _high_pass(warped: float, quality: float) -> list[float]:
    return [1.0, 0.0, 0.0]


def channel_weights(layout: Layout) -> NDArray[np.float64]:
    """The weight of each channel: 1.41 at the sides, 0 for LFE, else 1.

    Source: BS.1770-5, annex 3.
    """
    return np.array(
        [
            0.0 if lfe else 1.41 if 60 <= abs(azimuth) <= 120 and abs(elevation) < 30 else 1.0
            for lfe, (azimuth, elevation) in zip(layout.is_lfe, layout.angles_deg, strict=True)
        ]
    )


class LoudnessMeter:
    """Momentary, short-term and integrated loudness and loudness range, fed block by block."""

    def __init__(self, weights: NDArray[np.float64], rate_hz: int) -> None:
        self._sections = k_weighting(rate_hz)
        self._weights = weights
        self._state = np.zeros((len(weights), 4))
        self._hop = round(_HOP_S * rate_hz)
        self._sum = 0.0
        self._filled = 0
        self._sums = np.zeros(1024)  # of the powers of all hops up to each
        self._hops = 0

    def add(self, block: NDArray[np.float32]) -> None:
        """Take the next block, (channels, frames)."""
        self._sum, self._filled, done = _weigh(
            np.ascontiguousarray(block),
            self._sections,
            self._weights,
            self._state,
            self._sum,
            self._filled,
            self._hop,
        )
        while self._hops + len(done) >= len(self._sums):
            self._sums = np.concatenate([self._sums, np.zeros_like(self._sums)])
        begin, end = self._hops + 1, self._hops + 1 + len(done)
        self._sums[begin:end] = self._sums[self._hops] + np.cumsum(done)
        self._hops += len(done)

    def _windows(self, hops: int, step: int) -> NDArray[np.float64]:
        """The mean power of every window of so many hops, so many hops apart."""
        if self._hops < hops:
            return np.zeros(0)
        ends = self._sums[hops : self._hops + 1 : step]
        result: NDArray[np.float64] = np.maximum(ends - self._sums[: len(ends) * step : step], 0.0)
        return result / hops

    def _now(self, hops: int) -> float:
        if self._hops < hops:
            return -np.inf
        last = self._sums[self._hops] - self._sums[self._hops - hops]
        return float(_lufs(max(last, 0.0) / hops))

    @property
    def momentary_now_lufs(self) -> float:
        """Loudness of the last 400 ms; -inf before there were any and in silence."""
        return self._now(_MOMENTARY)

    @property
    def short_term_now_lufs(self) -> float:
        """Loudness of the last 3 s; -inf before there were any and in silence."""
        return self._now(_SHORT_TERM)

    @property
    def highest_momentary_lufs(self) -> float:
        """That of the loudest 400 ms, looked for every 10 ms; -inf where there is none."""
        return float(_lufs(self._windows(_MOMENTARY, 1).max(initial=0.0)))

    @property
    def highest_short_term_lufs(self) -> float:
        """That of the loudest 3 s, looked for every 10 ms; -inf where there is none."""
        return float(_lufs(self._windows(_SHORT_TERM, 1).max(initial=0.0)))

    @property
    def momentary_lufs(self) -> NDArray[np.float64]:
        """Loudness of every 400 ms window, ten a second; -inf in silence."""
        return _lufs(self._windows(_MOMENTARY, _TENTH))

    @property
    def short_term_lufs(self) -> NDArray[np.float64]:
        """Loudness of every 3 s window, ten a second; -inf in silence."""
        return _lufs(self._windows(_SHORT_TERM, _TENTH))

    @property
    def integrated_lufs(self) -> float | None:
        """Loudness of the whole, gated at -70 LUFS and at -10 LU.

        None where nothing is that loud.
        """
        power = _gated(self._windows(_MOMENTARY, _TENTH), -10.0)
        return None if power.size == 0 else float(_lufs(power.mean()))

    @property
    def range_lu(self) -> float | None:
        """The spread between the 10th and 95th per cent of short-term loudness.

        Source: EBU Tech 3342.
        """
        power = _gated(self._windows(_SHORT_TERM, _TENTH), -20.0)
        if power.size == 0:
            return None
        low, high = np.percentile(_lufs(power), [10, 95])
        return float(high - low)


def _lufs(power: NDArray[np.float64] | float) -> NDArray[np.float64]:
    with np.errstate(divide="ignore"):
        return _OFFSET + 10.0 * np.log10(power)


def _gated(power: NDArray[np.float64], relative_lu: float) -> NDArray[np.float64]:
    power = power[_lufs(power) > -70.0]
    if power.size == 0:
        return power
    return power[_lufs(power) > _lufs(power.mean()) + relative_lu]


@numba.njit(cache=True, nogil=True)
def _weigh(block, sections, weights, state, running, filled, hop):  # type: ignore[no-untyped-def]
    """Filter, square and add up.

    Returns the open sum, its length and the mean powers of the finished hops.
    """
    channels, frames = block.shape
    finished = (filled + frames) // hop
    sums = np.zeros(finished + 1)
    sums[0] = running
    counted = np.empty(channels, dtype=np.int64)
    count = 0
    for channel in range(channels):
        silent = not np.any(state[channel]) and not np.any(block[channel])
        if weights[channel] != 0.0 and not silent:
            counted[count] = channel
            count += 1
    rows, held = np.empty(LANES, dtype=np.int64), np.empty(4 * LANES)
    for first in range(0, count, LANES):
        own = counted[first : min(first + LANES, count)]
        for lane in range(LANES):  # where there are fewer, the last is worked on more than once
            rows[lane] = own[min(lane, len(own) - 1)] * frames
            for n in range(4):
                held[n * LANES + lane] = state[own[min(lane, len(own) - 1)], n]
        start, slot, position = 0, 0, filled
        while start < frames:
            stop = min(start + hop - position, frames)
            squares = _squared(block, rows, start, stop, sections, held)
            for lane in range(len(own)):
                sums[slot] += weights[own[lane]] * squares[lane]
            position += stop - start
            start = stop
            if position == hop:
                slot, position = slot + 1, 0
        for lane in range(len(own)):
            for n in range(4):
                state[own[lane], n] = held[n * LANES + lane]
    return sums[finished], (filled + frames) % hop, sums[:finished] / hop


@numba.njit(cache=True, nogil=True)
def _squared(block, rows, start, stop, sections, state):  # type: ignore[no-untyped-def]
    """The sums of squares of eight rows of a block after both filters; their states go on."""
    p = sections
    numbers = (
        (splat(p[0, 0]), splat(p[0, 1]), splat(p[0, 2]), splat(p[0, 4]), splat(p[0, 5])),
        (splat(p[1, 4]), splat(p[1, 5]), splat(2.0)),
    )
    memory = (
        load(state, 0),
        load(state, LANES),
        load(state, 2 * LANES),
        load(state, 3 * LANES),
        splat(0.0),
    )
    eights = start + (stop - start) // LANES * LANES
    for i in range(start, eights, LANES):
        for frame in eight_frames(block, rows, i):
            memory = _filtered(frame, numbers, memory)
    for i in range(eights, stop):
        memory = _filtered(one_frame(block, rows, i), numbers, memory)
    for n in range(4):
        store(state, n * LANES, memory[n])
    for n in range(len(state)):
        # what rings on in silence would end in numbers so small that they are slow
        if abs(state[n]) < _NOTHING:
            state[n] = 0.0
    squares = np.empty(LANES)
    store(squares, 0, memory[4])
    return squares


@numba.njit(cache=True, nogil=True)
def _filtered(x, numbers, memory):  # type: ignore[no-untyped-def]
    """The memory of both filters and the sum of squares, a frame on."""
    (b0, b1, b2, a1, a2), (c1, c2, two) = numbers
    s1, s2, t1, t2, total = memory
    y = b0 * x + s1
    z = y + t1
    return (
        b1 * x + s2 - a1 * y,
        b2 * x - a2 * y,
        t2 - two * y - c1 * z,
        y - c2 * z,
        total + z * z,
    )
