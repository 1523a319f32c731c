"""A measured head: what each ear hears from a direction, between the measured ones too."""

from functools import lru_cache
from pathlib import Path
from typing import Any

import numba
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

    Between measured directions the three nearest are mixed: their responses brought into step first
    and their delays mixed apart, so that no comb filter arises. Loudness: averaged over all
    directions, both ears together receive the energy of the source, as a constant-power pair of
    loudspeakers would give.
    """

    def __init__(
        self,
        azimuth_deg: ArrayLike,
        elevation_deg: ArrayLike,
        responses: NDArray[Any],
        rate_hz: int,
    ) -> None:
        """Take responses of shape (directions, 2, taps)."""
        self.rate_hz = rate_hz
        self.taps = round(TAPS_S * rate_hz)
        vectors = unit_vectors(azimuth_deg, elevation_deg)
        hull = ConvexHull(vectors)
        self._triangles = hull.simplices
        self._corners = np.ascontiguousarray(
            np.linalg.inv(vectors[self._triangles]).transpose(2, 1, 0)
        )
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
        chosen, corners = np.empty((len(vectors), 3)), np.empty((len(vectors), 3), dtype=np.int64)
        for vector, weights, found in zip(vectors, chosen, corners, strict=True):
            _near(vector, self._corners, self._triangles, weights, found)
        aligned = np.einsum("dc,dcet->det", chosen, self._aligned[corners])
        delays = np.einsum("dc,dce->de", chosen, self._delays[corners])
        size = next_fast_len(2 * self.taps, real=True)
        turns = -2j * np.pi * rfftfreq(size)
        shifted = irfft(rfft(aligned, size) * np.exp(turns * (delays[..., None] - _LEAD)), size)
        return np.ascontiguousarray(shifted[..., : self.taps] * _fade(self.taps), dtype=np.float32)

    def spectra(
        self,
        vectors: NDArray[np.float64],
        parts: NDArray[np.float64],
        ends: NDArray[np.int64],
        size: int,
    ) -> NDArray[np.complex64]:
        """Spectra (points, 2, size // 2 + 1) of responses, for what moves.

        Quicker, delays to a 32nd of a sample.

        At a point the sound may come from several directions at once: unit vectors (directions, 3),
        each with its part of the power, (directions); `ends` says where the directions of each
        point end. A point has one response of their mean energy.
        """
        measured, late = self._prepared(size)
        out = np.zeros((len(ends), *measured.shape[1:]), dtype=np.complex64)
        _mix(
            vectors, parts, ends, self._corners, self._triangles, self._delays, measured, late, out
        )
        return out

    def _prepared(self, size: int) -> tuple[NDArray[np.complex64], NDArray[np.complex64]]:
        """The spectra of the measured responses in step, and of every delay, for FFTs of a size.

        Made once.
        """
        if size not in self._kept:
            longest = int(np.ceil(self._delays.max())) - _LEAD + 1
            taps = self.taps - longest
            measured = rfft(self._aligned[..., :taps] * _fade(taps), size).astype(np.complex64)
            steps = np.arange(longest * _DELAY_STEPS + 1)[:, None] / _DELAY_STEPS
            self._kept[size] = (
                measured,
                np.exp(-2j * np.pi * rfftfreq(size) * steps).astype(np.complex64),
            )
        return self._kept[size]


def _fade(taps: int) -> NDArray[np.float64]:
    window = np.ones(taps)
    tail = taps // 8
    window[-tail:] = 0.5 + 0.5 * np.cos(np.pi * (np.arange(tail) + 1) / (tail + 1))
    return window


@numba.njit(cache=True, nogil=True, fastmath={"contract"})
def _near(vector, corners, triangles, weights, found):  # type: ignore[no-untyped-def]
    """The three measured directions round a direction, and their parts."""
    x, y, z = vector
    least = np.empty(corners.shape[2])
    for t in range(len(least)):
        a = x * corners[0, 0, t] + y * corners[0, 1, t] + z * corners[0, 2, t]
        b = x * corners[1, 0, t] + y * corners[1, 1, t] + z * corners[1, 2, t]
        c = x * corners[2, 0, t] + y * corners[2, 1, t] + z * corners[2, 2, t]
        least[t] = min(a, min(b, c))
    best = np.argmax(least)
    total = 0.0
    for k in range(3):
        part = x * corners[k, 0, best] + y * corners[k, 1, best] + z * corners[k, 2, best]
        weights[k] = max(part, 0.0)
        total += weights[k]
        found[k] = triangles[best, k]
    for k in range(3):
        weights[k] /= total


@numba.njit(cache=True, nogil=True, fastmath={"contract", "reassoc"})
def _mix(vectors, parts, ends, corners, triangles, delays, measured, late, out):  # type: ignore[no-untyped-def]
    weights = np.empty(3)
    found = np.empty(3, dtype=np.int64)
    begin = 0
    for point in range(len(ends)):
        energy = np.float32(0.0)
        several = ends[point] > begin + 1
        for n in range(begin, ends[point]):
            _near(vectors[n], corners, triangles, weights, found)
            a, b, c = np.float32(weights[0]), np.float32(weights[1]), np.float32(weights[2])
            part = np.float32(parts[n])
            for ear in range(2):
                delay = 0.0
                for k in range(3):
                    delay += weights[k] * delays[found[k], ear]
                turned = late[min(max(round((delay - _LEAD) * _DELAY_STEPS), 0), len(late) - 1)]
                one, two, three = (
                    measured[found[0], ear],
                    measured[found[1], ear],
                    measured[found[2], ear],
                )
                into = out[point, ear]
                if not several:
                    for k in range(len(into)):
                        into[k] = (a * one[k] + b * two[k] + c * three[k]) * turned[k]
                    continue
                for k in range(len(into)):
                    value = (a * one[k] + b * two[k] + c * three[k]) * turned[k]
                    into[k] += part * value
                    energy += part * (value.real * value.real + value.imag * value.imag)
        begin = ends[point]
        if several:
            sum_of = np.float32(1e-12)
            for ear in range(2):
                for value in out[point, ear]:
                    sum_of += value.real * value.real + value.imag * value.imag
            out[point] *= np.sqrt(energy / sum_of)


def _onsets(responses: NDArray[Any]) -> NDArray[np.float64]:
    """Delay of each response against its minimum-phase twin, in samples with their fractions.

    (directions, 2).
    """
    taps = responses.shape[-1]
    size = 1 << (4 * taps - 1).bit_length()
    spectra = rfft(responses, size)
    twins = minimum_phase_spectrum(np.log(np.maximum(np.abs(spectra), 1e-8)), size)
    likeness = irfft(spectra * np.conj(twins), size)
    peak = np.argmax(likeness[..., 1:taps], axis=-1) + 1
    before, top, after = (
        np.take_along_axis(likeness, (peak + k)[..., None], -1)[..., 0] for k in (-1, 0, 1)
    )
    result: NDArray[np.float64] = peak + 0.5 * (before - after) / (before - 2.0 * top + after)
    return result


@lru_cache(maxsize=4)
def load_head(path: Path, rate_hz: int) -> Head:
    """Read a file of head responses and bring it to a sample rate.

    Source: AES69 (SOFA), convention SimpleFreeFieldHRIR.

    Parameters
    ----------
    path
        The SOFA file.
    rate_hz
        Of the responses as they are used.

    Raises
    ------
    InputError
        Where the file is missing or is not a set of head responses.
    """
    import sofar  # slow to import, and not every command needs a head

    if not path.is_file():
        raise InputError(
            f"The measured head {path.name} is not there; install Debian's libmysofa1."
        )
    try:
        sofa = sofar.read_sofa(str(path), verify=False, verbose=False)
        responses, source_rate = (
            np.asarray(sofa.Data_IR, dtype=float),
            float(np.ravel(sofa.Data_SamplingRate)[0]),
        )
        azimuth, elevation = sofa.SourcePosition[:, 0], sofa.SourcePosition[:, 1]
    except Exception as error:
        raise InputError(
            f"{path.name} cannot be read as a SOFA file of head responses; choose another."
        ) from error
    if responses.ndim != 3 or responses.shape[1] != 2:
        raise InputError(
            f"{path.name} does not hold two ears per direction; choose another SOFA file."
        )
    if source_rate != rate_hz:
        count, ears, taps = responses.shape
        flat = soxr.resample(responses.reshape(count * ears, taps).T, source_rate, rate_hz, "VHQ").T
        responses = flat.reshape(count, ears, -1)
    return Head(azimuth, elevation, responses, rate_hz)
