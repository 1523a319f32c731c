"""A measured head: what each ear hears from a direction, between the measured ones too."""

from functools import lru_cache
from pathlib import Path
from threading import Lock
from typing import Any

import numba
import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.fft import irfft, next_fast_len, rfft, rfftfreq
from scipy.spatial import ConvexHull, QhullError

from metaphon.core.dsp.resampling import resampled
from metaphon.core.errors import InputError
from metaphon.core.foreign import reads_foreign
from metaphon.core.spatial.directions import unit_vectors
from metaphon.core.spatial.minimum_phase import minimum_phase_spectrum
from metaphon.core.spatial.sofa import read_sofa

Spectra = NDArray[np.complex64]
SHIPPED = Path("/usr/share/libmysofa/MIT_KEMAR_normal_pinna.sofa")
_LOADING = Lock()
TAPS_S = 512 / 48000.0
_DELAY_STEPS = 32  # a sample, for what moves
_MEASURED_HZ = (120.0, 300.0)  # measured heads are trusted above; below they pass to no head
_MOST_BOOST = np.log(10.0 ** (30.0 / 10.0))  # of the inverse, as a natural logarithm of power
_LEAD = 16  # samples kept before the onset, so that what rings ahead of it is not cut


class Head:
    """A set of head-related impulse responses at one sample rate.

    A measured head has its loudspeaker and its ear canal in it. So its responses are set right for
    the diffuse field: averaged in power over the sphere, each ear hears half of the energy of the
    source at every frequency, as a constant-power pair of loudspeakers would give. Below what can
    be measured, no head is in the way: each ear hears that half from everywhere. Differences
    between ears, in level and in time, stay as they are above it.

    Between measured directions the three nearest are mixed: their responses brought into step first
    and their delays mixed apart, so that no comb filter arises.

    Source: H. Moller, Fundamentals of binaural technology, 1992; V. Larcher, J.-M. Jot & G.
    Vandernoot, Equalization methods in binaural technology, AES convention 105, 1998.
    """

    def __init__(
        self,
        azimuth_deg: ArrayLike,
        elevation_deg: ArrayLike,
        responses: NDArray[Any],
        measured_hz: float,
        rate_hz: int,
    ) -> None:
        """Take responses of shape (directions, 2, taps) at their own rate, and the one they get."""
        self.rate_hz = rate_hz
        self.taps = round(TAPS_S * rate_hz)
        vectors = unit_vectors(azimuth_deg, elevation_deg)
        hull = ConvexHull(vectors)
        self._triangles = hull.simplices
        self._corners = np.ascontiguousarray(
            np.linalg.inv(vectors[self._triangles]).transpose(2, 1, 0)
        )
        self._kept: dict[int, tuple[NDArray[np.complex64], NDArray[np.complex64]]] = {}
        # before they are at another rate, so that ears are as far apart in time at all of them
        self._delays = _onsets(responses) * (rate_hz / measured_hz)
        if measured_hz != rate_hz:
            flat = resampled(
                responses.reshape(-1, responses.shape[-1]), round(measured_hz), rate_hz
            )
            responses = flat.reshape(*responses.shape[:2], -1).astype(np.float64)
        size = 1 << (4 * max(self.taps, responses.shape[-1]) - 1).bit_length()
        power = np.abs(rfft(responses, size)) ** 2
        level = 0.5 * np.log(np.maximum(power, 1e-12 * power.max()))
        mean = np.log(np.einsum("d,def->f", self._areas(vectors), power))
        hertz = rfftfreq(size, 1.0 / rate_hz)
        heard = np.interp(np.log2(np.maximum(hertz, 1.0)), np.log2(_MEASURED_HZ), (0.0, 1.0))
        level = (level - 0.5 * np.maximum(mean, mean.max() - _MOST_BOOST)) * heard
        level -= 0.5 * np.log(2.0) * (1.0 - heard)
        found = irfft(minimum_phase_spectrum(level, size), size)
        self._aligned = np.roll(found, _LEAD, axis=-1)[..., : self.taps] * _fade(self.taps)

    def _areas(self, vectors: NDArray[np.float64]) -> NDArray[np.float64]:
        """The part of the sphere that each measured direction stands for, (directions)."""
        a, b, c = vectors[self._triangles].swapaxes(0, 1)
        # the solid angle of a triangle of unit vectors (Van Oosterom & Strackee 1983)
        volume = np.abs(np.einsum("ij,ij->i", a, np.cross(b, c)))
        around = 1.0 + np.sum(a * b, axis=1) + np.sum(b * c, axis=1) + np.sum(c * a, axis=1)
        angle = 2.0 * np.arctan2(volume, around)
        areas = np.zeros(len(vectors))
        np.add.at(areas, self._triangles.reshape(-1), np.repeat(angle / 3.0, 3))
        result: NDArray[np.float64] = areas / areas.sum()
        return result

    @property
    def mean_delay(self) -> float:
        """When a sound reaches the ears on average over the measured directions, in samples."""
        return float(self._delays.mean())

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
    ) -> tuple[Spectra, Spectra | None]:
        """Spectra of responses at points from which sound comes, for what moves and what is wide.

        Quicker than `responses`, delays to a 32nd of a sample.

        Parameters
        ----------
        vectors, parts
            Unit vectors, (directions, 3), and the part of the power that comes from each,
            (directions).
        ends
            Where the directions of each point end, (points).
        size
            Of the FFT.

        Returns
        -------
            Two spectra, (points, 2, size // 2 + 1): what the ears hear of the sound itself, and of
            a copy that is unlike it. Together they have the levels, and the likeness between ears,
            of sound that comes from all directions of a point at once, each unlike the others. The
            second is None where no point has several.

        References
        ----------
            J. Vilkamo, T. Backstrom & A. Kuntz, Optimized covariance domain framework for
            time-frequency processing of spatial audio, J. Audio Eng. Soc. 61(6), 2013: here the
            sound itself keeps the response of the middle, and the copy has what then lacks.
        """
        measured, late = self._prepared(size)
        alone = np.zeros((len(vectors), *measured.shape[1:]), dtype=np.complex64)
        _mix(vectors, self._corners, self._triangles, self._delays, measured, late, alone)
        if len(ends) == len(vectors):
            return alone, None
        starts = np.concatenate([[0], ends[:-1]])
        itself, copy = alone[starts], np.zeros_like(alone[starts])
        wide = np.flatnonzero(ends - starts > 1)
        middles = np.stack(
            [
                parts[a:b] @ vectors[a:b] + 1e-3 * vectors[a]
                for a, b in zip(starts[wide], ends[wide], strict=True)
            ]
        )
        middles /= np.linalg.norm(middles, axis=1, keepdims=True)
        centre = np.zeros((len(wide), *measured.shape[1:]), dtype=np.complex64)
        _mix(middles, self._corners, self._triangles, self._delays, measured, late, centre)
        for point, middle in zip(wide, centre, strict=True):
            some = slice(starts[point], ends[point])
            found = _spread(alone[some], parts[some], middle)
            short = irfft(found, size)[..., : self.taps] * _fade(self.taps)
            itself[point], copy[point] = rfft(short, size).astype(np.complex64)
        return itself, copy

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
def _mix(vectors, corners, triangles, delays, measured, late, out):  # type: ignore[no-untyped-def]
    """The spectra of directions, (directions, 2, frequencies), into `out`."""
    weights = np.empty(3)
    found = np.empty(3, dtype=np.int64)
    for n in range(len(vectors)):
        _near(vectors[n], corners, triangles, weights, found)
        a, b, c = np.float32(weights[0]), np.float32(weights[1]), np.float32(weights[2])
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
            into = out[n, ear]
            for k in range(len(into)):
                into[k] = (a * one[k] + b * two[k] + c * three[k]) * turned[k]


@numba.njit(cache=True, nogil=True, fastmath={"contract"})
def _spread(alone, parts, middle):  # type: ignore[no-untyped-def]
    """What the ears hear of a sound and of its copy, (2, ears, frequencies).

    `alone` are the responses of all directions, (directions, ears, frequencies), `middle` the one
    of their middle.
    """
    count = middle.shape[1]
    powers, cross = np.zeros((2, count)), np.zeros(count, dtype=np.complex128)
    whole = parts.sum()
    for direction in range(len(alone)):
        share = parts[direction] / whole
        left, right = alone[direction, 0], alone[direction, 1]
        for k in range(count):
            one, other = np.complex128(left[k]), np.complex128(right[k])
            powers[0, k] += share * (one.real * one.real + one.imag * one.imag)
            powers[1, k] += share * (other.real * other.real + other.imag * other.imag)
            cross[k] += share * (one * other.conjugate())
    found = np.empty((2, 2, count), dtype=np.complex128)
    for k in range(count):
        left, right = np.complex128(middle[0, k]), np.complex128(middle[1, k])
        # so much of the middle may be wrong, by its delay in steps, without being taken for width
        least = 3e-3 * (powers[0, k] + powers[1, k]) + 1e-15
        power_left, power_right = powers[0, k] + least, powers[1, k] + least
        inverse_of = power_left * power_right - abs(cross[k]) ** 2
        own = power_right * abs(left) ** 2 + power_left * abs(right) ** 2
        own -= 2.0 * (left.conjugate() * cross[k] * right).real
        level = np.sqrt(inverse_of / max(own, 1e-30))
        lead = left / max(abs(left), 1e-12)  # in step with the sound itself
        left, right = left * level, right * level
        rest = cross[k] - left * right.conjugate()
        size = abs(rest)
        turn = rest.conjugate() / size if size > 0.0 else np.complex128(1.0)
        found[0, 0, k], found[0, 1, k] = left, right
        found[1, 0, k] = lead * np.sqrt(max(powers[0, k] - abs(left) ** 2, 0.0))
        found[1, 1, k] = lead * turn * np.sqrt(max(powers[1, k] - abs(right) ** 2, 0.0))
    return found


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
    with _LOADING:  # by whoever asks first; the others wait for it
        return _loaded(path, rate_hz)


@reads_foreign
def try_head(path: Path, rate_hz: int) -> None:
    """Read a head as `load_head` does and ask it for responses, so that what fails is refused."""
    load_head(path, rate_hz).responses(np.eye(3))


@lru_cache(maxsize=4)
def _loaded(path: Path, rate_hz: int) -> Head:
    if not path.is_file():
        raise InputError(
            f"The measured head {path.name} is not there; install Debian's libmysofa1."
        )
    responses, measured_hz, positions, _ = read_sofa(path)
    if len(positions) != len(responses) or positions.shape[1] < 2:
        raise InputError(
            f"{path.name} names {len(positions)} directions for {len(responses)} responses; export "
            "it again."
        )
    try:
        return Head(positions[:, 0], positions[:, 1], responses, measured_hz, rate_hz)
    except (QhullError, np.linalg.LinAlgError):
        raise InputError(
            f"{path.name} does not hold directions from all round; choose another SOFA file."
        ) from None
