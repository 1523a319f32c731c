"""Two recordings of one sound together: what their sum keeps and loses, now and after a mend."""

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray
from scipy.fft import rfft, rfftfreq
from scipy.signal import get_window

from metaphon.core.measure.alignment import Alignment, align
from metaphon.core.spatial.air import SPEED_OF_SOUND_M_S

_SEGMENT_S = 0.34  # of the spectra: 16384 frames at 48 kHz, 2.9 Hz apart
_POINTS = 480  # of a drawing, from 20 Hz on
_LOWEST_HZ, _HIGHEST_HZ = 20.0, 20000.0
_SAME = 0.6  # of the likeness: one sound
_MAYBE = 0.25  # of the likeness: one sound where both halves of the span say the same
_DRIFT_MS = 10.0  # what the halves of a span may differ by: a source that comes or goes

Curve = NDArray[np.float64]


@dataclass(frozen=True)
class Pair:
    """The spectra of two recordings over a span.

    `one` and `two` are their powers, `cross` what they have in common, (frequencies) each, one
    against two; `found` is the delay and polarity of the other, None where one is silent.
    `is_one_sound` is whether that can be trusted: two performances have a delay too.
    """

    frequencies_hz: Curve
    one: Curve
    two: Curve
    cross: NDArray[np.complex128]
    found: Alignment | None
    is_one_sound: bool

    def moved(self, delay_ms: float, inverted: bool) -> "Pair":
        """The pair with its other held back by a delay and turned over, as by its chain."""
        found = self.found and replace(
            self.found,
            delay_ms=self.found.delay_ms + delay_ms,
            inverted=self.found.inverted != inverted,
        )
        return replace(self, cross=self.turned(delay_ms, inverted), found=found)

    def through(self, response: NDArray[np.complex128]) -> "Pair":
        """The pair with its other filtered by a response, (frequencies), that leaves all levels."""
        return replace(self, cross=self.cross * response)

    @property
    def resolution_hz(self) -> float:
        """How far apart the analysed frequencies lie: the rate over the length of a segment."""
        return float(self.frequencies_hz[1])

    @cached_property
    def coherence(self) -> Curve:
        """How much of each frequency the two have in common, 0 to 1 (magnitude squared).

        Source: Bendat & Piersol, Random Data, 4th ed. 2010, section 5.2.
        """
        both = np.maximum(self.one * self.two, 1e-30)
        return np.clip(np.abs(self.cross) ** 2 / both, 0.0, 1.0)

    def turned(self, delay_ms: float, inverted: bool) -> NDArray[np.complex128]:
        """What they have in common once the other is held back by a delay, and turned over."""
        turn = np.exp(-2j * np.pi * self.frequencies_hz * delay_ms / 1000.0)
        turned: NDArray[np.complex128] = self.cross * turn * (-1.0 if inverted else 1.0)
        return turned

    def sum_db(self, delay_ms: float = 0.0, inverted: bool = False) -> Curve:
        """The sum against the sum of both in phase, by frequency, in dB: 0 is all there is."""
        ideal = self.one + self.two + 2.0 * np.abs(self.cross)
        real = self.one + self.two + 2.0 * self.turned(delay_ms, inverted).real
        return _decibels(np.maximum(real, 0.0), ideal)

    def gain_db(
        self, delay_ms: float = 0.0, inverted: bool = False, against: "Pair | None" = None
    ) -> float:
        """How much louder the sum is with a mend than without, or than that of `against`."""
        alone = float(np.sum(self.one + self.two))
        now, then = (
            alone + 2.0 * float(np.sum(cross.real))
            for cross in ((against or self).cross, self.turned(delay_ms, inverted))
        )
        return float(_decibels(np.array(max(then, 0.0)), np.array(max(now, 0.0))))

    def correlation(self, delay_ms: float = 0.0, inverted: bool = False) -> float:
        """The correlation of the two, -1 to 1, with a mend of the other."""
        energy = float(np.sqrt(np.sum(self.one) * np.sum(self.two)))
        common = float(np.sum(self.turned(delay_ms, inverted).real))
        return float(np.clip(common / energy, -1.0, 1.0)) if energy > 0.0 else 0.0

    @property
    def first_notch_hz(self) -> float | None:
        """The lowest frequency that the sum loses by the delay found; None where it loses none."""
        if self.found is None or not self.is_one_sound:
            return None
        late_s = abs(self.found.delay_ms) / 1000.0
        if self.found.inverted:
            return 0.0  # the lows go first, then every multiple of 1 / delay
        return 0.5 / late_s if late_s * _HIGHEST_HZ > 0.5 else None

    @property
    def distance_m(self) -> float:
        """How far sound travels in the delay found."""
        return abs(self.found.delay_ms) / 1000.0 * SPEED_OF_SOUND_M_S if self.found else 0.0


def pair_of(one: NDArray[np.float32], two: NDArray[np.float32], rate_hz: int) -> Pair:
    """Compare two recordings over the same span.

    Parameters
    ----------
    one, two
        Samples, (frames) each, as many.
    rate_hz
        Of both.

    References
    ----------
        P. D. Welch, The use of fast Fourier transform for the estimation of power spectra, IEEE
        Trans. Audio Electroacoustics 15(2), 1967. The other is moved by the delay found before it
        is cut into segments, since coherence is underestimated otherwise (Carter 1987).
    """
    found = align(one, two, rate_hz)
    late = round(found.delay_ms * rate_hz / 1000.0) if found else 0
    early, after = max(-late, 0), max(late, 0)
    count = max(len(one) - abs(late), 0)
    a, b = one[early : early + count], two[after : after + count]
    size = min(1 << round(np.log2(_SEGMENT_S * rate_hz)), 1 << max(int(np.log2(max(count, 2))), 1))
    window = get_window("hann", size)
    frequencies = rfftfreq(size, 1.0 / rate_hz)
    powers = np.zeros((2, len(frequencies)))
    cross = np.zeros(len(frequencies), dtype=np.complex128)
    for first in range(0, max(count - size, 0) + 1, size // 2):
        left = rfft(window[: len(a[first : first + size])] * a[first : first + size], size)
        right = rfft(window[: len(b[first : first + size])] * b[first : first + size], size)
        powers += np.abs(left) ** 2, np.abs(right) ** 2
        cross += right * np.conj(left)
    cross *= np.exp(-2j * np.pi * frequencies * late / rate_hz)  # where the other was
    return Pair(
        frequencies, powers[0], powers[1], cross, found, _is_one_sound(one, two, rate_hz, found)
    )


def _is_one_sound(
    one: NDArray[np.float32], two: NDArray[np.float32], rate_hz: int, found: Alignment | None
) -> bool:
    """Whether two recordings have one sound, by their likeness, or by that of each half."""
    if found is None or found.confidence < _MAYBE:
        return False
    if found.confidence >= _SAME:
        return True
    middle = min(len(one), len(two)) // 2
    halves = (align(one[part], two[part], rate_hz) for part in (slice(middle), slice(middle, None)))
    return all(
        half is None  # where one of them rests nothing is said
        or (half.inverted == found.inverted and abs(half.delay_ms - found.delay_ms) < _DRIFT_MS)
        for half in halves
    )


def drawn(frequencies_hz: Curve, values: Curve) -> tuple[Curve, Curve]:
    """A curve at frequencies that lie evenly on a logarithmic axis, each the mean of its stretch.

    Where a stretch holds none of the analysed frequencies it is read in between.
    """
    high = min(_HIGHEST_HZ, float(frequencies_hz[-1]))
    edges = np.geomspace(_LOWEST_HZ, high, _POINTS + 1)
    at = np.sqrt(edges[1:] * edges[:-1])
    places = np.searchsorted(frequencies_hz, edges)
    sums = np.concatenate([[0.0], np.cumsum(values)])
    counts = np.diff(places)
    means = np.diff(sums[places]) / np.maximum(counts, 1)
    return at, np.where(counts > 0, means, np.interp(at, frequencies_hz, values))


def _decibels(power: Curve, reference: Curve) -> Curve:
    return 10.0 * np.log10(np.maximum(power, 1e-12 * np.maximum(reference, 1e-30))) - 10.0 * (
        np.log10(np.maximum(reference, 1e-30))
    )
