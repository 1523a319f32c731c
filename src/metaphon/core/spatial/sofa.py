"""Files of responses at two ears (AES69, SOFA): read, and found sound before anything is made."""

from pathlib import Path
from threading import Lock
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft, next_fast_len, rfft, rfftfreq

from metaphon.core.dsp.sample_rates import RATES_HZ
from metaphon.core.errors import InputError
from metaphon.core.presence import present

_MOST_BYTES = 256 << 20
_MOST_TAPS = 1 << 16
_MOST_SAMPLES = 32_000_000
_LOUDEST = 1e3
_SILENT = 1e-9
_MOST_DELAY = 10_000.0  # samples
_ROUND_IT = 16  # samples that a part of a sample rings over


ONE_AT_A_TIME = Lock()  # the library beneath, netCDF, breaks where two threads use it at once


class Responses(NamedTuple):
    """Impulse responses (measurements, 2, taps), their rate, and the positions they are for.

    `positions` has azimuth and elevation in degrees, (measurements, 2 or more). `convention` is
    what the file says it is.
    """

    samples: NDArray[np.float64]
    rate_hz: float
    positions: NDArray[np.float64]
    convention: str


def read_sofa(path: Path) -> Responses:
    """Read a file of responses at two ears.

    Raises InputError in one sentence for what is none, too large, not numbers, silent, or at a rate
    that nothing is recorded at.
    """
    import sofar  # slow to import, and few commands need it

    if present(path).stat().st_size > _MOST_BYTES:
        raise InputError(
            f"{path.name} is larger than {_MOST_BYTES >> 20} MiB; bring fewer directions."
        )
    try:
        with ONE_AT_A_TIME:
            sofa = sofar.read_sofa(str(path), verify=False, verbose=False)
        samples = np.asarray(sofa.Data_IR, dtype=float)
        rate_hz = float(np.ravel(sofa.Data_SamplingRate)[0])
        positions = np.atleast_2d(np.asarray(sofa.SourcePosition, dtype=float))
        kind = str(getattr(sofa, "SourcePosition_Type", "spherical"))
        units = str(getattr(sofa, "SourcePosition_Units", "degree"))
        delays = np.atleast_2d(np.asarray(getattr(sofa, "Data_Delay", 0.0), dtype=float))
        convention = str(sofa.GLOBAL_SOFAConventions)
    except MemoryError:
        raise
    except Exception as error:
        raise InputError(f"{path.name} cannot be read as a SOFA file; choose another.") from error
    if samples.ndim != 3 or samples.shape[1] != 2:
        raise InputError(f"{path.name} does not hold two ears each time; choose another SOFA file.")
    _check(path.name, samples, rate_hz, positions)
    samples = _delayed(path.name, samples, delays)
    return Responses(samples, rate_hz, _in_degrees(positions, kind, units), convention)


def _delayed(
    name: str, samples: NDArray[np.float64], delays: NDArray[np.float64]
) -> NDArray[np.float64]:
    """Responses with the delays, in samples, that a file keeps apart from them."""
    if not np.isfinite(delays).all() or np.abs(delays).max(initial=0.0) > _MOST_DELAY:
        raise InputError(f"{name} has delays that no head makes; export it again.")
    late = np.broadcast_to(delays, samples.shape[:2])
    if not late.any():
        return samples
    late = late - min(float(late.min()), 0.0)
    taps = samples.shape[2] + int(np.ceil(late.max())) + _ROUND_IT
    size = next_fast_len(taps, real=True)
    turns = -2j * np.pi * rfftfreq(size)
    shifted = irfft(rfft(samples, size) * np.exp(turns * late[..., None]), size)
    return np.asarray(shifted[..., :taps])


def _in_degrees(positions: NDArray[np.float64], kind: str, units: str) -> NDArray[np.float64]:
    """Azimuth and elevation in degrees, and distance in metres, of positions as a file has them.

    Cartesian ones have x to the front, y to the left and z up (AES69).
    """
    if kind.strip().lower().startswith("cart"):
        x, y, z = positions[:, :3].T
        azimuth, level = np.degrees(np.arctan2(y, x)), np.hypot(x, y)
        return np.stack([azimuth, np.degrees(np.arctan2(z, level)), np.hypot(level, z)], axis=1)
    found = positions.copy()
    if units.strip().lower().startswith("rad"):
        found[:, :2] = np.degrees(found[:, :2])
    return found


def _check(name: str, samples: NDArray[Any], rate_hz: float, positions: NDArray[Any]) -> None:
    low, high = RATES_HZ
    if not low <= rate_hz <= high:  # NaN is not within either
        raise InputError(
            f"{name} says it is at {rate_hz:g} Hz; responses may be at {low / 1000:g} to "
            f"{high / 1000:g} kHz."
        )
    if not samples.size or samples.shape[2] > _MOST_TAPS or samples.size > _MOST_SAMPLES:
        raise InputError(
            f"{name} holds {samples.shape[0]} responses of {samples.shape[2]} samples; that is "
            "nothing, or more than can be used."
        )
    if not (np.isfinite(samples).all() and np.isfinite(positions).all()):
        raise InputError(f"{name} holds what is not a number; export it again.")
    loudest = np.abs(samples).max()
    if not _SILENT < loudest <= _LOUDEST:
        what = "is silent" if loudest <= _SILENT else "is louder than any response can be"
        raise InputError(f"{name} {what}; export it again.")
