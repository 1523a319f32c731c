"""Sample peak and true peak by ITU-R BS.1770-5 annex 2."""

import numba
import numpy as np
from numpy.typing import NDArray

from metaphon.core.dsp.highest import highest
from metaphon.core.dsp.wide import SAMPLES, load, splat, store
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
        sets = [(*pair, middle) for pair, middle in zip(pairs, middles, strict=False)]
        self._taps = np.array(sets, dtype=np.float32)[:, :, :_HALF].copy()
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
    between = np.empty(3 * _SEGMENT, dtype=np.float32)
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
                for n in range(len(taps)):
                    _between(sound, taps[n, 0], taps[n, 1], taps[n, 2], between)
                    if start + _SEGMENT > last:
                        between.reshape(3, _SEGMENT)[:, last - start :] = 0.0
                    peak = max(peak, np.float64(highest(between)))
        peaks[channel] = peak


@numba.njit(cache=True, nogil=True, fastmath={"contract"})
def _between(x, even, odd, middle, found):  # type: ignore[no-untyped-def]
    """Three values between any two samples of a segment, one after the other.

    Two of them have 32 taps that are each other's turned round, so both are made of one even and
    one odd half; those of the third are even.
    """
    for i in range(0, _SEGMENT, 2 * SAMPLES):
        same = turned = half = splat(np.float32(0.0))
        same_2 = turned_2 = half_2 = splat(np.float32(0.0))  # two at a time do not wait
        for k in range(_HALF):
            before, after = i + k, i + 2 * _HALF - 1 - k
            one, other = load(x, before), load(x, after)
            one_2, other_2 = load(x, before + SAMPLES), load(x, after + SAMPLES)
            same = same + splat(even[k]) * (one + other)
            half = half + splat(middle[k]) * (one + other)
            turned = turned + splat(odd[k]) * (one - other)
            same_2 = same_2 + splat(even[k]) * (one_2 + other_2)
            half_2 = half_2 + splat(middle[k]) * (one_2 + other_2)
            turned_2 = turned_2 + splat(odd[k]) * (one_2 - other_2)
        store(found, i, same + turned)
        store(found, i + SAMPLES, same_2 + turned_2)
        store(found, i + _SEGMENT, same - turned)
        store(found, i + _SEGMENT + SAMPLES, same_2 - turned_2)
        store(found, i + 2 * _SEGMENT, half)
        store(found, i + 2 * _SEGMENT + SAMPLES, half_2)
