"""How late one recording of the same sound is against another, and whether it is upside down."""

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft, next_fast_len, rfft

_SHARPNESS = (
    0.7  # between plain correlation (0) and full whitening (1), steady for band-limited sounds
)


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
