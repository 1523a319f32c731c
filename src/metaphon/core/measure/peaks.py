"""Sample peak and true peak by ITU-R BS.1770-5 annex 2."""

import numba
import numpy as np
from numpy.typing import NDArray

_HALF = 16  # input samples on each side of an interpolated one
_SEGMENT = 64
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
        self._phases = np.stack(
            [taps[p : p + 2 * _HALF * factor : factor][::-1] for p in range(1, factor)]
        ).astype(np.float32)
        self._bound = float(np.abs(self._phases).sum(axis=1).max())
        self._history = np.zeros((channels, 2 * _HALF), dtype=np.float32)
        self.sample_peak = np.zeros(channels)
        self.true_peak = np.zeros(channels)
        self.near_full_scale = 0  # samples no more than 0.1 dB below full scale, or above it

    def add(self, block: NDArray[np.float32]) -> None:
        """Take the next block, (channels, frames)."""
        highest = np.max(np.abs(block), axis=1, initial=0.0)
        if highest.max(initial=0.0) >= NEAR_FULL_SCALE:
            self.near_full_scale += int(np.count_nonzero(np.abs(block) >= NEAR_FULL_SCALE))
        self.sample_peak = np.maximum(self.sample_peak, highest)
        self.true_peak = np.maximum(self.true_peak, self.sample_peak)
        joined = np.concatenate([self._history, block], axis=1)
        _interpolated_peak(joined, self._phases, self._bound, self.true_peak)
        self._history = joined[:, -2 * _HALF :].copy()

    def finish(self) -> None:
        """Let the last samples through the interpolator."""
        self.add(np.zeros((len(self.true_peak), 2 * _HALF), dtype=np.float32))


@numba.njit(cache=True, nogil=True, fastmath={"contract"})
def _interpolated_peak(samples, phases, bound, peaks):  # type: ignore[no-untyped-def]
    channels, frames = samples.shape
    count, taps = phases.shape
    last = frames - taps + 1
    between = np.empty(_SEGMENT, dtype=np.float32)
    for channel in range(channels):
        peak = peaks[channel]
        start = 0
        while start < last:
            stop = min(start + _SEGMENT, last)
            loudest = np.float32(0.0)
            for i in range(start, stop + taps - 1):
                loudest = max(loudest, abs(samples[channel, i]))
            if loudest * bound > peak:
                for p in range(count):
                    between[:] = 0.0
                    for k in range(taps):  # tap by tap, so that neighbours are summed side by side
                        tap, stretch = phases[p, k], samples[channel, start + k : stop + k]
                        for i in range(len(stretch)):
                            between[i] += tap * stretch[i]
                    for i in range(stop - start):
                        peak = max(peak, abs(between[i]))
            start = stop
        peaks[channel] = peak
