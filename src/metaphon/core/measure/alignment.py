"""How late one recording of the same sound is against another, and whether it is upside down."""

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft, next_fast_len, rfft
from scipy.signal import decimate

_SHARPNESS = (
    0.7  # between plain correlation (0) and full whitening (1), steady for band-limited sounds
)
_SURE = 0.25  # likeness above which a place counts where a delay is followed
_NEAR_MS = 0.1


@dataclass(frozen=True)
class Alignment:
    """delay_ms is positive where the other is late.

    Confidence 0 (unrelated) to 1 (the same but for time).
    """

    delay_ms: float
    inverted: bool
    confidence: float


def align(
    reference: NDArray[Any], other: NDArray[Any], rate_hz: int, longest_ms: float = 100.0
) -> Alignment | None:
    """Find delay and polarity of one recording against another of the same sound.

    Parameters
    ----------
    reference, other
        Samples, (frames) each.
    rate_hz
        Of both.
    longest_ms
        The longest delay looked for, either way.

    Returns
    -------
        Delay to about 1/32 of a sample, polarity and how sure it is; None where either is silent.

    References
    ----------
        C. Knapp & G. C. Carter, The generalized correlation method for estimation of time delay,
        IEEE Trans. ASSP 24(4), 1976.
    """
    frames = max(len(reference), len(other))
    size = next_fast_len(2 * frames, real=True)
    one, two = rfft(reference, size), rfft(other, size)
    energy = np.sqrt(
        np.sum(np.square(reference, dtype=float)) * np.sum(np.square(other, dtype=float))
    )
    if energy <= 0.0:
        return None
    cross = two * np.conj(one)
    whitened = cross / np.maximum(np.abs(cross), 1e-9 * np.abs(cross).max()) ** _SHARPNESS
    reach = min(frames - 1, round(longest_ms * 1e-3 * rate_hz))
    curve = _around_zero(irfft(whitened, size), reach)
    peak = int(np.argmax(np.abs(curve)))
    place, top = _between_samples(curve, peak)
    near = _around_zero(irfft(cross, size), reach)[max(peak - 1, 0) : peak + 2]
    likeness = float(np.abs(near).max() / energy)
    return Alignment((place - reach) * 1000.0 / rate_hz, top < 0, min(likeness, 1.0))


def follow(
    reference: NDArray[Any],
    other: NDArray[Any],
    rate_hz: int,
    most_ms_a_s: float = 2.0,
    step_s: float = 0.25,
) -> tuple[NDArray[np.float64], NDArray[np.float64], bool]:
    """How late the other is as time goes on, for a source that comes or goes.

    Parameters
    ----------
    reference, other
        Samples, (frames) each.
    rate_hz
        Of both.
    most_ms_a_s
        How fast the delay may change, in ms a second: 1 bends the pitch by 1.7 cents.
    step_s
        From one place to the next; each is told from 0.4 s round it, below about 5 kHz, where a
        source that moves stays alike for so long.

    Returns
    -------
        Times in seconds, delays in ms at them, and whether the other is upside down. Where nothing
        is heard that both have, the delay goes on as it was. Empty where they have nothing at all.

    References
    ----------
        Knapp & Carter 1976 for each place; between them the path with the most likeness that keeps
        its bound (A. Viterbi 1967).
    """
    thinner = max(round(rate_hz / 12000), 1)
    one_low, other_low = (
        decimate(sound, thinner, ftype="fir") if thinner > 1 else sound
        for sound in (reference, other)
    )
    low_hz = rate_hz / thinner
    window = round(0.4 * low_hz)
    starts = np.arange(0, max(len(other_low) - window, 0) + 1, round(step_s * low_hz))
    found = [
        align(one_low[at : at + window], other_low[at : at + window], round(low_hz))
        for at in starts
    ]
    sure = [one for one in found if one is not None and one.confidence > _SURE]
    if not sure:
        return np.zeros(0), np.zeros(0), False
    weights = np.array([one.confidence * (-1.0 if one.inverted else 1.0) for one in sure])
    inverted = bool(weights.sum() < 0.0)
    # places that delays may have: those that were found, and between them as fine as they may move
    grid_ms = min(most_ms_a_s * step_s, 0.05)
    low, high = (bound([one.delay_ms for one in sure]) for bound in (min, max))
    places = np.arange(low - grid_ms, high + 1.5 * grid_ms, grid_ms)
    reach = max(int(most_ms_a_s * step_s / grid_ms + 1e-6), 1)
    score = np.zeros(len(places))
    came = np.zeros((len(found), len(places)), dtype=np.int64)
    for n, one in enumerate(found):
        before = np.pad(score, reach, constant_values=-np.inf)
        around = np.lib.stride_tricks.sliding_window_view(before, 2 * reach + 1)
        penalty = 1e-6 * np.abs(np.arange(-reach, reach + 1))  # of two ways the stiller
        best = np.argmax(around - penalty, axis=1)
        came[n] = np.arange(len(places)) + best - reach
        score = np.take_along_axis(around - penalty, best[:, None], 1)[:, 0]
        if one is not None and one.confidence > _SURE and one.inverted == inverted:
            score = score + one.confidence * np.exp(-(((places - one.delay_ms) / _NEAR_MS) ** 2))
    path = np.empty(len(found), dtype=np.int64)
    here = int(np.argmax(score))
    for n in range(len(found) - 1, -1, -1):
        path[n] = here
        here = int(came[n, here])
    delays: NDArray[np.float64] = places[path].astype(np.float64)
    for n, one in enumerate(found):  # finer than the places, within what it may move
        if one is not None and one.confidence > _SURE and abs(one.delay_ms - delays[n]) < grid_ms:
            least, most = (
                (-np.inf, np.inf)
                if n == 0
                else delays[n - 1] + most_ms_a_s * step_s * np.array([-1.0, 1.0])
            )
            delays[n] = min(max(one.delay_ms, least), most)
    return np.asarray((starts + window / 2) / low_hz, dtype=np.float64), delays, inverted


def _around_zero(curve: NDArray[Any], reach: int) -> NDArray[Any]:
    return np.concatenate([curve[-reach:] if reach else curve[:0], curve[: reach + 1]])


def _between_samples(curve: NDArray[Any], peak: int) -> tuple[float, float]:
    """The place and height of the top near a sample, interpolated to 1/32 of a sample."""
    half = 24
    at = np.arange(max(peak - half, 0), min(peak + half + 1, len(curve)))
    places = peak + np.arange(-32, 33) / 32.0
    apart = places[:, None] - at
    window = np.cos(np.pi * np.clip(apart / (2 * half + 2), -0.5, 0.5)) ** 2
    values = (np.sinc(apart) * window) @ curve[at]
    best = int(np.argmax(np.abs(values)))
    return float(places[best]), float(values[best])
