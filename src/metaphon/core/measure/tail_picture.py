"""Pictures of a response: its energy over time and frequency, how alike both ears hear it."""

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft, next_fast_len, rfft, rfftfreq
from scipy.signal import stft

from metaphon.core.measure.room_response import OCTAVES_HZ

FLOOR_DB = -80.0
_WINDOW = 1024
_LATEST_S = 0.001  # between the ears (ISO 3382-1, annex B)
_EARLY_S, _LATE_S = 0.08, 1.0


class Alikeness(NamedTuple):
    """The interaural cross-correlation coefficient of each octave, early and late, 0 to 1.

    None where there is nothing to tell.
    """

    early: tuple[float | None, ...]
    late: tuple[float | None, ...]


def spectrogram_db(
    sound: NDArray[np.floating], rate_hz: int, bands_hz: NDArray[np.float64], columns: int
) -> NDArray[np.float64]:
    """Energy by band and time, in dB of the strongest, down to FLOOR_DB.

    Parameters
    ----------
    sound
        (channels, frames).
    rate_hz
        Of it.
    bands_hz
        The middles of the bands, rising, (bands).
    columns
        How many times.

    Returns
    -------
        (bands, columns), from the first sample to the last.
    """
    hertz, _, parts = stft(sound, rate_hz, nperseg=_WINDOW, noverlap=_WINDOW * 3 // 4)
    energy = np.sum(np.abs(parts) ** 2, axis=0)
    edges = np.sqrt(bands_hz[1:] * bands_hz[:-1])
    edges = np.concatenate([[edges[0] ** 2 / edges[1]], edges, [edges[-1] ** 2 / edges[-2]]])
    # the energy below a frequency, straight between bins, so that no narrow band is empty
    below = np.concatenate([np.zeros((1, energy.shape[1])), np.cumsum(energy, axis=0)])
    bins = np.concatenate([hertz, [hertz[-1] + hertz[1]]])
    at = [np.interp(edges, bins, column) for column in below.T]
    bands = np.maximum(np.diff(np.array(at), axis=1).T, 0.0)
    places = np.linspace(0.0, bands.shape[1] - 1, columns)
    taken = np.stack([np.interp(places, np.arange(bands.shape[1]), row) for row in bands])
    top = max(float(taken.max()), 1e-30)
    return np.asarray(10.0 * np.log10(np.maximum(taken / top, 10.0 ** (FLOOR_DB / 10.0))))


def alikeness(ears: NDArray[np.floating], rate_hz: int) -> Alikeness:
    """How alike a response is at both ears, (2, frames), by octaves: 0 to 80 ms and up to 1 s.

    References
    ----------
        ISO 3382-1:2009, annex B: the largest absolute value of the cross-correlation within 1 ms.
    """
    sound = np.asarray(ears, dtype=np.float64)
    loud = np.abs(sound).max(axis=0)
    begins = int(np.argmax(loud >= 0.1 * loud.max(initial=0.0)))
    cut = begins + round(_EARLY_S * rate_hz)
    spans = (slice(begins, cut), slice(cut, begins + round(_LATE_S * rate_hz)))
    found = [[_octave_alike(sound[:, span], hz, rate_hz) for hz in OCTAVES_HZ] for span in spans]
    return Alikeness(tuple(found[0]), tuple(found[1]))


def _octave_alike(part: NDArray[np.float64], hertz: float, rate_hz: int) -> float | None:
    size = next_fast_len(2 * part.shape[1] + 1, real=True)
    spectra, at = rfft(part, size), rfftfreq(size, 1.0 / rate_hz)
    inside = (at >= hertz * 2.0**-0.5) & (at < hertz * 2.0**0.5)
    left, right = spectra * inside
    energies = [float(np.sum(np.abs(ear) ** 2)) for ear in (left, right)]
    if min(energies) < 1e-20:
        return None
    alike = irfft(right * np.conj(left), size) * size / 2.0
    most = round(_LATEST_S * rate_hz)
    near = np.concatenate([alike[: most + 1], alike[-most:]])
    return float(min(np.abs(near).max() / np.sqrt(energies[0] * energies[1]), 1.0))
