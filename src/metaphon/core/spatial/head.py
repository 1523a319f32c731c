"""A measured head: what each ear hears from a direction, between the measured ones too."""

from functools import lru_cache
from pathlib import Path

import numpy as np
import soxr
from numpy.typing import ArrayLike, NDArray
from scipy.fft import irfft, next_fast_len, rfft, rfftfreq
from scipy.spatial import ConvexHull

from metaphon.core.errors import InputError
from metaphon.core.spatial.directions import unit_vectors
from metaphon.core.spatial.minimum_phase import minimum_phase_spectrum

SHIPPED = Path("/usr/share/libmysofa/MIT_KEMAR_normal_pinna.sofa")
TAPS_S = 512 / 48000.0
_DELAY_STEPS = 32  # a sample, for what moves
_LEAD = 16  # samples kept before the onset, so that what rings ahead of it is not cut


class Head:
    """A set of head-related impulse responses at one sample rate.

    Between measured directions the three nearest are mixed: their responses brought into step first and
    their delays mixed apart, so that no comb filter arises. Loudness: averaged over all directions, both
    ears together receive the energy of the source, as a constant-power pair of loudspeakers would give.
    """

    def __init__(self, azimuth_deg: ArrayLike, elevation_deg: ArrayLike, responses: NDArray, rate_hz: int) -> None:
        """Take responses of shape (directions, 2, taps)."""
        self.rate_hz = rate_hz
        self.taps = round(TAPS_S * rate_hz)
        vectors = unit_vectors(azimuth_deg, elevation_deg)
        hull = ConvexHull(vectors)
        self._triangles = hull.simplices
        # all triangles at once, corner by corner: (3, triangles) each
        self._corners = [
            np.ascontiguousarray(corner) for corner in np.linalg.inv(vectors[self._triangles]).transpose(2, 1, 0)
        ]
        self._kept: dict[int, tuple[NDArray[np.complex64], NDArray[np.complex64]]] = {}
        delays = _onsets(responses)
        size = next_fast_len(2 * max(self.taps, responses.shape[-1]), real=True)
        turns = 2j * np.pi * rfftfreq(size)
        spectra = rfft(responses, size) * np.exp(turns * (delays[..., None] - _LEAD))
        aligned = irfft(spectra, size)[..., : self.taps]
        scale = np.sqrt(np.mean(np.sum(aligned**2, axis=(1, 2))))
        self._aligned = aligned / scale
        self._delays = delays

    def responses(self, vectors: NDArray[np.float64]) -> NDArray[np.float32]:
        """Impulse responses (directions, 2, taps) for unit vectors (directions, 3)."""
        chosen, corners = self._near(vectors)
        aligned = np.einsum("dc,dcet->det", chosen, self._aligned[corners])
        delays = np.einsum("dc,dce->de", chosen, self._delays[corners])
        size = next_fast_len(2 * self.taps, real=True)
        turns = -2j * np.pi * rfftfreq(size)
        shifted = irfft(rfft(aligned, size) * np.exp(turns * (delays[..., None] - _LEAD)), size)
        return np.ascontiguousarray(shifted[..., : self.taps] * _fade(self.taps), dtype=np.float32)

    def spectra(self, vectors: NDArray[np.float64], size: int) -> NDArray[np.complex64]:
        """Spectra (directions, 2, size // 2 + 1) of responses, for what moves: quicker, delays to a 32nd of a sample."""
        chosen, corners = self._near(vectors)
        measured, late = self._prepared(size)
        weights = chosen.astype(np.float32)[:, :, None, None]
        mixed = weights[:, 0] * measured[corners[:, 0]]
        for corner in (1, 2):
            mixed += weights[:, corner] * measured[corners[:, corner]]
        delays = np.einsum("dc,dce->de", chosen, self._delays[corners])
        steps = np.clip(np.round((delays - _LEAD) * _DELAY_STEPS).astype(int), 0, len(late) - 1)
        return mixed * late[steps]

    def _near(self, vectors: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.intp]]:
        """The parts of the three measured directions round each direction, and which they are."""
        weights = [vectors @ corner for corner in self._corners]
        best = np.argmax(np.minimum(np.minimum(weights[0], weights[1]), weights[2]), axis=-1)
        rows = np.arange(len(vectors))
        chosen = np.maximum(np.stack([weight[rows, best] for weight in weights], axis=-1), 0.0)
        return chosen / chosen.sum(axis=-1, keepdims=True), self._triangles[best]

    def _prepared(self, size: int) -> tuple[NDArray[np.complex64], NDArray[np.complex64]]:
        """The spectra of the measured responses in step, and of every delay, for FFTs of a size; made once."""
        if size not in self._kept:
            longest = int(np.ceil(self._delays.max())) - _LEAD + 1
            taps = self.taps - longest
            measured = rfft(self._aligned[..., :taps] * _fade(taps), size).astype(np.complex64)
            steps = np.arange(longest * _DELAY_STEPS + 1)[:, None] / _DELAY_STEPS
            self._kept[size] = measured, np.exp(-2j * np.pi * rfftfreq(size) * steps).astype(np.complex64)
        return self._kept[size]


def _fade(taps: int) -> NDArray[np.float64]:
    window = np.ones(taps)
    tail = taps // 8
    window[-tail:] = 0.5 + 0.5 * np.cos(np.pi * (np.arange(tail) + 1) / (tail + 1))
    return window


def _onsets(responses: NDArray) -> NDArray[np.float64]:
    """Delay of each response against its minimum-phase twin, in samples with their fractions, (directions, 2)."""
    taps = responses.shape[-1]
    size = 1 << (4 * taps - 1).bit_length()
    spectra = rfft(responses, size)
    twins = minimum_phase_spectrum(np.log(np.maximum(np.abs(spectra), 1e-8)), size)
    likeness = irfft(spectra * np.conj(twins), size)
    peak = np.argmax(likeness[..., 1:taps], axis=-1) + 1
    before, top, after = (np.take_along_axis(likeness, (peak + k)[..., None], -1)[..., 0] for k in (-1, 0, 1))
    return peak + 0.5 * (before - after) / (before - 2.0 * top + after)


@lru_cache(maxsize=4)
def load_head(path: Path, rate_hz: int) -> Head:
    """Read a SOFA file (AES69, SimpleFreeFieldHRIR) and bring it to a sample rate.

    Raises InputError where the file is missing or is not a set of head responses.
    """
    import sofar  # slow to import, and not every command needs a head

    if not path.is_file():
        raise InputError(f"The measured head {path.name} is not there; install Debian's libmysofa1.")
    try:
        sofa = sofar.read_sofa(str(path), verify=False, verbose=False)
        responses, source_rate = np.asarray(sofa.Data_IR, dtype=float), float(np.ravel(sofa.Data_SamplingRate)[0])
        azimuth, elevation = sofa.SourcePosition[:, 0], sofa.SourcePosition[:, 1]
    except Exception as error:
        raise InputError(f"{path.name} cannot be read as a SOFA file of head responses; choose another.") from error
    if responses.ndim != 3 or responses.shape[1] != 2:
        raise InputError(f"{path.name} does not hold two ears per direction; choose another SOFA file.")
    if source_rate != rate_hz:
        count, ears, taps = responses.shape
        flat = soxr.resample(responses.reshape(count * ears, taps).T, source_rate, rate_hz, "VHQ").T
        responses = flat.reshape(count, ears, -1)
    return Head(azimuth, elevation, responses, rate_hz)
