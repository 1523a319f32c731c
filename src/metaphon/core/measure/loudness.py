"""Loudness of a programme by ITU-R BS.1770-5 and EBU Tech 3341 and 3342."""

import numba
import numpy as np
from numpy.typing import NDArray

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
            block, self._sections, self._weights, self._state, self._sum, self._filled, self._hop
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
    for n in range(0, count, 2):  # two at a time: they do not wait for each other
        one, two = counted[n], counted[min(n + 1, count - 1)]
        start, slot, position = 0, 0, filled
        while start < frames:
            stop = min(start + hop - position, frames)
            a, b = _squared(
                block[one, start:stop], block[two, start:stop], sections, state, one, two
            )
            sums[slot] += weights[one] * a
            if two != one:
                sums[slot] += weights[two] * b
            position += stop - start
            start = stop
            if position == hop:
                slot, position = slot + 1, 0
                for channel in (one, two):
                    # what rings on in silence would end in numbers so small that they are slow
                    if np.abs(state[channel]).sum() < _NOTHING:
                        state[channel] = 0.0
    return sums[finished], (filled + frames) % hop, sums[:finished] / hop


@numba.njit(cache=True, nogil=True, fastmath={"contract"})
def _squared(sound, other, sections, state, one, two):  # type: ignore[no-untyped-def]
    """The sums of squares of two channels after both filters; their states go on.

    Given the same channel twice its state is that of one.
    """
    b0, b1, b2 = sections[0, 0], sections[0, 1], sections[0, 2]
    a1, a2, c1, c2 = sections[0, 4], sections[0, 5], sections[1, 4], sections[1, 5]
    s1, s2, t1, t2 = state[one]
    u1, u2, v1, v2 = state[two]
    total = both = 0.0
    for i in range(len(sound)):
        x, w = float(sound[i]), float(other[i])
        y, h = b0 * x + s1, b0 * w + u1
        s1, u1 = b1 * x + s2 - a1 * y, b1 * w + u2 - a1 * h
        s2, u2 = b2 * x - a2 * y, b2 * w - a2 * h
        z, g = y + t1, h + v1
        t1, v1 = t2 - 2.0 * y - c1 * z, v2 - 2.0 * h - c1 * g
        t2, v2 = y - c2 * z, h - c2 * g
        total += z * z
        both += g * g
    state[one, 0], state[one, 1], state[one, 2], state[one, 3] = s1, s2, t1, t2
    state[two, 0], state[two, 1], state[two, 2], state[two, 3] = u1, u2, v1, v2
    return total, both
