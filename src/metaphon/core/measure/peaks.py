"""Sample peak and true peak by ITU-R BS.1770-5 annex 2."""

import numba
import numpy as np
from numpy.typing import NDArray

from metaphon.core.dsp.highest import highest
from metaphon.core.measure.powers import PIECE, Pieces, pieces_of

_HALF = 16  # input samples on each side of an interpolated one
_SEGMENT = 128
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
        # what lies as far behind a sample as before the next one has the same taps turned round
        count = (factor - 1) // 2
        none = phases[0] * 0
        pairs = [
            ((one + two) / 2, (one - two) / 2)
            for one, two in zip(phases[:count], phases[::-1], strict=False)
        ] or [(none, none)]
        middles = [none if factor % 2 else phases[count], *[none] * count]
        self._taps = tuple(
            tuple(tuple(taps[:_HALF]) for taps in (*pair, middle))
            for pair, middle in zip(pairs, middles, strict=False)
        )
        self._bound = float(np.abs(phases).sum(axis=1).max())
        self._history = np.zeros((channels, 2 * _HALF), dtype=np.float32)
        self.sample_peak = np.zeros(channels)
        self.true_peak = np.zeros(channels)
        self.near_full_scale = 0  # samples no more than 0.1 dB below full scale, or above it

    def add(self, block: NDArray[np.float32], pieces: Pieces) -> None:
        """Take the next block, (channels, frames), and what `pieces_of` finds in it."""
        block = np.ascontiguousarray(block)
        loudest = pieces.highest.max(axis=1, initial=0.0)
        if loudest.max(initial=0.0) >= NEAR_FULL_SCALE:
            self.near_full_scale += int(np.count_nonzero(np.abs(block) >= NEAR_FULL_SCALE))
        self.sample_peak = np.maximum(self.sample_peak, loudest)
        self.true_peak = np.maximum(self.true_peak, self.sample_peak)
        seam = np.concatenate([self._history, block[:, : 2 * _HALF - 1]], axis=1)
        for sound, tops in ((seam, pieces_of(seam).highest), (block, pieces.highest)):
            _interpolated_peak(sound, tops, self._taps, self._bound, self.true_peak)
        last = block[:, -2 * _HALF :]
        self._history = np.concatenate([self._history[:, last.shape[1] :], last], axis=1)

    def finish(self) -> None:
        """Let the last samples through the interpolator."""
        silence = np.zeros((len(self.true_peak), 2 * _HALF), dtype=np.float32)
        self.add(silence, pieces_of(silence))


@numba.njit(cache=True, nogil=True)
def _interpolated_peak(samples, tops, taps, bound, peaks):  # type: ignore[no-untyped-def]
    """Raise `peaks` (channels) to the highest interpolated sample of (channels, frames).

    What cannot exceed them by its highest samples, `tops` (channels, pieces), is left out. The last
    segment is not looked at beyond where there are all samples on either side.
    """
    frames = samples.shape[1]
    last = frames - 2 * _HALF + 1
    between = np.empty(_SEGMENT, dtype=np.float32)
    rest = np.zeros(_SEGMENT + 2 * _HALF, dtype=np.float32)
    for channel in range(len(samples)):
        peak = peaks[channel]
        for piece in range(tops.shape[1]):
            begin, next_to = piece * PIECE, min(piece + 1, tops.shape[1] - 1)
            if max(tops[channel, piece], tops[channel, next_to]) * bound <= peak:
                continue
            for start in range(begin, min(begin + PIECE, last), _SEGMENT):
                sound = samples[channel, start : start + _SEGMENT + 2 * _HALF]
                if len(sound) < len(rest):
                    rest[: len(sound)] = sound
                    rest[len(sound) :] = 0.0
                    sound = rest
                if highest(sound) * bound <= peak:
                    continue
                between[:] = 0.0
                for even, odd, middle in taps:
                    _between(sound, even, odd, middle, between)
                between[max(last - start, 0) :] = 0.0
                peak = max(peak, np.float64(highest(between)))
        peaks[channel] = peak


@numba.njit(cache=True, nogil=True, fastmath={"contract"})
def _between(x, even, odd, middle, found):  # type: ignore[no-untyped-def]
    """Three values between any two samples of a segment; `found` keeps the highest.

    Two of them have 32 taps that are each other's turned round, so both are made of one even and
    one odd half; those of the third are even.
    """
    for i in range(_SEGMENT):
        same = even[0] * (x[i + 0] + x[i + 31]) + even[1] * (x[i + 1] + x[i + 30])
        same += even[2] * (x[i + 2] + x[i + 29]) + even[3] * (x[i + 3] + x[i + 28])
        same += even[4] * (x[i + 4] + x[i + 27]) + even[5] * (x[i + 5] + x[i + 26])
        same += even[6] * (x[i + 6] + x[i + 25]) + even[7] * (x[i + 7] + x[i + 24])
        same += even[8] * (x[i + 8] + x[i + 23]) + even[9] * (x[i + 9] + x[i + 22])
        same += even[10] * (x[i + 10] + x[i + 21]) + even[11] * (x[i + 11] + x[i + 20])
        same += even[12] * (x[i + 12] + x[i + 19]) + even[13] * (x[i + 13] + x[i + 18])
        same += even[14] * (x[i + 14] + x[i + 17]) + even[15] * (x[i + 15] + x[i + 16])
        half = middle[0] * (x[i + 0] + x[i + 31]) + middle[1] * (x[i + 1] + x[i + 30])
        half += middle[2] * (x[i + 2] + x[i + 29]) + middle[3] * (x[i + 3] + x[i + 28])
        half += middle[4] * (x[i + 4] + x[i + 27]) + middle[5] * (x[i + 5] + x[i + 26])
        half += middle[6] * (x[i + 6] + x[i + 25]) + middle[7] * (x[i + 7] + x[i + 24])
        half += middle[8] * (x[i + 8] + x[i + 23]) + middle[9] * (x[i + 9] + x[i + 22])
        half += middle[10] * (x[i + 10] + x[i + 21]) + middle[11] * (x[i + 11] + x[i + 20])
        half += middle[12] * (x[i + 12] + x[i + 19]) + middle[13] * (x[i + 13] + x[i + 18])
        half += middle[14] * (x[i + 14] + x[i + 17]) + middle[15] * (x[i + 15] + x[i + 16])
        turned = odd[0] * (x[i + 0] - x[i + 31]) + odd[1] * (x[i + 1] - x[i + 30])
        turned += odd[2] * (x[i + 2] - x[i + 29]) + odd[3] * (x[i + 3] - x[i + 28])
        turned += odd[4] * (x[i + 4] - x[i + 27]) + odd[5] * (x[i + 5] - x[i + 26])
        turned += odd[6] * (x[i + 6] - x[i + 25]) + odd[7] * (x[i + 7] - x[i + 24])
        turned += odd[8] * (x[i + 8] - x[i + 23]) + odd[9] * (x[i + 9] - x[i + 22])
        turned += odd[10] * (x[i + 10] - x[i + 21]) + odd[11] * (x[i + 11] - x[i + 20])
        turned += odd[12] * (x[i + 12] - x[i + 19]) + odd[13] * (x[i + 13] - x[i + 18])
        turned += odd[14] * (x[i + 14] - x[i + 17]) + odd[15] * (x[i + 15] - x[i + 16])
        found[i] = max(found[i], max(abs(same) + abs(turned), abs(half)))
