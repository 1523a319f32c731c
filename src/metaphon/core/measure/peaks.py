"""Sample peak and true peak by ITU-R BS.1770-5 annex 2."""

import numba
import numpy as np
from numpy.typing import NDArray

_HALF = 16  # input samples on each side of an interpolated one
_SEGMENT = 64
_HIGHEST = _SEGMENT + 2 * _HALF
NEAR_FULL_SCALE = 10.0 ** (-0.1 / 20.0)


def decibels(amplitude: float) -> float | None:
    """Amplitude as dB, or None for silence."""
    return float(20.0 * np.log10(amplitude)) if amplitude > 0.0 else None


class PeakMeter:
    """Highest sample and highest true peak per channel, fed block by block.

    Oversampled at least to 192 kHz, only where a stretch could exceed the highest peak so far.
    """

    def __init__(self, channels: int, rate_hz: int) -> None:
        factor = max(2, int(np.ceil(192000 / rate_hz)))
        place = np.arange(-_HALF * factor, _HALF * factor + 1)
        taps = np.sinc(0.97 / factor * place) * np.kaiser(len(place), 7.0)
        taps *= factor / taps.sum()
        phases = np.stack(
            [taps[p : p + 2 * _HALF * factor : factor][::-1] for p in range(1, factor)]
        ).astype(np.float32)
        self._phases = tuple(map(tuple, phases))
        self._bound = float(np.abs(phases).sum(axis=1).max())
        self._history = np.zeros((channels, 2 * _HALF), dtype=np.float32)
        self.sample_peak = np.zeros(channels)
        self.true_peak = np.zeros(channels)
        self.near_full_scale = 0  # samples no more than 0.1 dB below full scale, or above it

    def add(self, block: NDArray[np.float32]) -> None:
        """Take the next block, (channels, frames)."""
        highest = _highest_of(block)
        if highest.max(initial=0.0) >= NEAR_FULL_SCALE:
            self.near_full_scale += int(np.count_nonzero(np.abs(block) >= NEAR_FULL_SCALE))
        self.sample_peak = np.maximum(self.sample_peak, highest)
        self.true_peak = np.maximum(self.true_peak, self.sample_peak)
        joined = np.concatenate([self._history, block], axis=1)
        # a channel that cannot exceed its peak anywhere is not looked at
        before = _highest_of(self._history)
        within = np.maximum(highest, before) * self._bound <= self.true_peak
        _interpolated_peak(joined, self._phases, self._bound, self.true_peak, within)
        self._history = joined[:, -2 * _HALF :].copy()

    def finish(self) -> None:
        """Let the last samples through the interpolator."""
        self.add(np.zeros((len(self.true_peak), 2 * _HALF), dtype=np.float32))


@numba.njit(cache=True, nogil=True, fastmath={"nnan", "nsz", "reassoc"})
def _highest_of(block):  # type: ignore[no-untyped-def]
    """The highest sample of each channel, (channels)."""
    found = np.zeros(len(block))
    for channel in range(len(block)):
        highest = np.float32(0.0)
        for i in range(block.shape[1]):
            size = abs(block[channel, i])
            highest = size if size > highest else highest
        found[channel] = highest
    return found


@numba.njit(cache=True, nogil=True, fastmath={"contract"})
def _interpolated_peak(samples, phases, bound, peaks, within):  # type: ignore[no-untyped-def]
    """Raise `peaks` (channels) to the highest interpolated sample of (channels, frames).

    Channels that lie within what they have had already are left out.

    A segment at a time, which is held with what is worked out of it in one array: the samples, and
    behind them the highest of each place.
    """
    channels, frames = samples.shape
    last = frames - 2 * _HALF + 1
    held = np.empty(_HIGHEST + _SEGMENT, dtype=np.float32)
    for channel in range(channels):
        if within[channel]:
            continue
        peak = peaks[channel]
        for start in range(0, last, _SEGMENT):
            own = min(_SEGMENT, last - start)
            for i in range(own + 2 * _HALF - 1):
                held[i] = samples[channel, start + i]
            held[own + 2 * _HALF - 1 : _HIGHEST] = 0.0
            for i in range(_SEGMENT):
                held[_HIGHEST + i] = max(abs(held[i]), abs(held[i + 2 * _HALF]))
            if _highest(held) * bound <= peak:
                continue
            held[_HIGHEST:] = 0.0
            for taps in phases:
                _between(held, taps)
            for i in range(own, _SEGMENT):  # past the end there is nothing between samples
                held[_HIGHEST + i] = 0.0
            peak = max(peak, _highest(held))
        peaks[channel] = peak


@numba.njit(cache=True, nogil=True, fastmath={"contract"})
def _between(held, t):  # type: ignore[no-untyped-def]
    """One value between any two samples of a segment by 32 taps, `t`; the highest are kept.

    All taps in one sum, so that it stays in the registers.
    """
    for i in range(_SEGMENT):
        total = (t[0] * held[i + 0] + t[1] * held[i + 1]) + (
            t[2] * held[i + 2] + t[3] * held[i + 3]
        )
        total += (t[4] * held[i + 4] + t[5] * held[i + 5]) + (
            t[6] * held[i + 6] + t[7] * held[i + 7]
        )
        total += (t[8] * held[i + 8] + t[9] * held[i + 9]) + (
            t[10] * held[i + 10] + t[11] * held[i + 11]
        )
        total += (t[12] * held[i + 12] + t[13] * held[i + 13]) + (
            t[14] * held[i + 14] + t[15] * held[i + 15]
        )
        total += (t[16] * held[i + 16] + t[17] * held[i + 17]) + (
            t[18] * held[i + 18] + t[19] * held[i + 19]
        )
        total += (t[20] * held[i + 20] + t[21] * held[i + 21]) + (
            t[22] * held[i + 22] + t[23] * held[i + 23]
        )
        total += (t[24] * held[i + 24] + t[25] * held[i + 25]) + (
            t[26] * held[i + 26] + t[27] * held[i + 27]
        )
        total += (t[28] * held[i + 28] + t[29] * held[i + 29]) + (
            t[30] * held[i + 30] + t[31] * held[i + 31]
        )
        held[_HIGHEST + i] = max(held[_HIGHEST + i], abs(total))


@numba.njit(cache=True, nogil=True)
def _highest(held):  # type: ignore[no-untyped-def]
    """The highest of the last places, which are overwritten; in halves, side by side."""
    half = _SEGMENT // 2
    while half:
        for i in range(half):
            held[_HIGHEST + i] = max(held[_HIGHEST + i], held[_HIGHEST + half + i])
        half //= 2
    return held[_HIGHEST]
