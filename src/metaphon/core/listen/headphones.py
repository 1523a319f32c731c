"""Headphone correction: from a measured response to its bounded inverse."""

import csv
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft, rfft, rfftfreq

from metaphon.core.errors import InputError
from metaphon.core.foreign import reads_foreign
from metaphon.core.listen.monitor import Correction
from metaphon.core.presence import present
from metaphon.core.spatial.minimum_phase import minimum_phase_spectrum
from metaphon.core.spatial.sofa import read_sofa

SHIPPED = Path(__file__).parent / "headphone_responses"
PRACTICE = SHIPPED / "practice_pair.csv"
FILTER_SIZE = 16384
_TAPS = 4096
_DEEPEST_CUT_DB = 24.0
_LEVEL_HZ = (200.0, 2000.0)  # the band whose mean is 0 dB
_EDGE_OCTAVES = 0.5
_FEWEST_POINTS = 8
_MOST_BYTES = 4 << 20


@dataclass(frozen=True)
class Response:
    """A pair of headphones.

    Level in dB at frequencies, (2, points), 0 dB on average from 200 Hz to 2 kHz.
    """

    frequencies_hz: NDArray[np.float64]
    level_db: NDArray[np.float64]

    def at(self, frequencies_hz: NDArray[np.float64]) -> NDArray[np.float64]:
        """The level at other frequencies, in straight lines over log frequency, (2.

        Frequencies).
        """
        place, known = np.log(np.maximum(frequencies_hz, 1.0)), np.log(self.frequencies_hz)
        return np.stack([np.interp(place, known, side) for side in self.level_db])


@lru_cache(maxsize=32)
def read_response(path: Path) -> Response:
    """Read a response.

    CSV (frequency in Hz, dB, and dB of the right side where it differs) or an AES69 headphone file.

    Raises InputError in one sentence for anything else.
    """
    if not path.is_file():
        raise InputError(f"{path.name} is not there; choose the headphone response again.")
    if path.suffix.lower() == ".sofa":
        return _level(*_read_sofa(path))
    return _level(*_read_csv(path))


@reads_foreign
def try_response(path: Path) -> None:
    """Read a response as `read_response` does, so that what fails is refused before it is kept."""
    read_response(path)


def _level(frequencies: NDArray[np.float64], level: NDArray[np.float64]) -> Response:
    middle = (frequencies >= _LEVEL_HZ[0]) & (frequencies <= _LEVEL_HZ[1])
    return Response(frequencies, level - level[:, middle].mean())


def _read_csv(path: Path) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    if present(path).stat().st_size > _MOST_BYTES:
        raise InputError(f"{path.name} is too large for a response; write a few hundred lines.")
    text = path.read_text(encoding="utf-8-sig", errors="replace")
    separator = ";" if ";" in text else "\t" if "\t" in text and "," not in text else ","
    rows: list[list[float]] = []
    try:
        lines = list(csv.reader(text.splitlines(), delimiter=separator))
    except csv.Error as error:
        raise InputError(f"{path.name} is no table that can be read ({error}).") from None
    for number, cells in enumerate(lines, start=1):
        cells = [cell.strip() for cell in cells if cell.strip()]
        if not cells or cells[0].startswith("#"):
            continue
        try:
            rows.append([float(cell) for cell in cells[:3]])
        except ValueError:
            if rows:
                raise InputError(
                    f"Line {number} of {path.name} is not numbers; write frequency, dB."
                ) from None
    if len(rows) < _FEWEST_POINTS or len({len(row) for row in rows}) > 1 or len(rows[0]) < 2:
        raise InputError(
            f"{path.name} holds no response; write lines of frequency in Hz, dB, with "
            "8 lines or more."
        )
    table = np.array(sorted(rows))
    frequencies = table[:, 0]
    if not np.isfinite(table).all() or frequencies[0] <= 0.0 or np.any(np.diff(frequencies) <= 0.0):
        raise InputError(
            f"{path.name} names a frequency twice or one that is none; mend it and bring it again."
        )
    if frequencies[0] > _LEVEL_HZ[0] or frequencies[-1] < _LEVEL_HZ[1]:
        raise InputError(
            f"{path.name} does not reach from 200 Hz to 2 kHz; bring a wider response."
        )
    return frequencies, np.stack([table[:, 1], table[:, -1]])


def _read_sofa(path: Path) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    responses, rate, _, convention = read_sofa(path)
    if "Headphone" not in convention:
        raise InputError(
            f"{path.name} is not a headphone file (SimpleHeadphoneIR); choose another."
        )
    power = np.mean(np.abs(rfft(responses, FILTER_SIZE)) ** 2, axis=0)
    frequencies = rfftfreq(FILTER_SIZE, 1.0 / rate)
    wanted = np.geomspace(20.0, min(20000.0, 0.49 * rate), 240)
    # mean power over a sixth of an octave, as a hand would draw it
    edges = wanted[:, None] * 2.0 ** np.array([-1 / 12, 1 / 12])
    sums = np.concatenate([np.zeros((2, 1)), np.cumsum(power, axis=1)], axis=1)
    first = np.searchsorted(frequencies, edges[:, 0])
    last = np.maximum(np.searchsorted(frequencies, edges[:, 1]), first + 1)
    mean = (sums[:, last] - sums[:, first]) / (last - first)
    return wanted, 10.0 * np.log10(np.maximum(mean, 1e-20))


def wanted_change_db(
    correction: Correction, frequencies_hz: NDArray[np.float64]
) -> NDArray[np.float64]:
    """What the correction does at frequencies, in dB, (2, frequencies).

    Bounded, within its band, by its strength.
    """
    response = read_response(correction.response).at(frequencies_hz)
    target = (
        read_response(correction.target).at(frequencies_hz)
        if correction.target
        else np.zeros_like(response)
    )
    change = np.clip(target - response, -_DEEPEST_CUT_DB, correction.most_boost_db)
    place = np.log2(np.maximum(frequencies_hz, 1e-3))
    low = np.clip((place - np.log2(correction.low_hz)) / _EDGE_OCTAVES + 1.0, 0.0, 1.0)
    high = np.clip((np.log2(correction.high_hz) - place) / _EDGE_OCTAVES + 1.0, 0.0, 1.0)
    result: NDArray[np.float64] = change * low * high * correction.strength / 100.0
    return result


@lru_cache(maxsize=16)
def correction_taps(correction: Correction, rate_hz: int) -> NDArray[np.float32]:
    """The correcting filter of both sides, (2, taps). Linear phase delays by half its length."""
    change = wanted_change_db(correction, rfftfreq(FILTER_SIZE, 1.0 / rate_hz))
    return _linear(change) if correction.phase == "linear" else minimum_phase_taps(change)


@lru_cache(maxsize=16)
def worn_taps(response: Path, rate_hz: int) -> NDArray[np.float32]:
    """A simulated pair of headphones as a filter, (2, taps), minimum phase."""
    return minimum_phase_taps(read_response(response).at(rfftfreq(FILTER_SIZE, 1.0 / rate_hz)))


def minimum_phase_taps(level_db: NDArray[np.float64]) -> NDArray[np.float32]:
    """Shortest filters with these levels over the frequencies of an FFT."""
    taps = irfft(minimum_phase_spectrum(level_db / 20.0 * np.log(10.0), FILTER_SIZE), FILTER_SIZE)[
        :, :_TAPS
    ]
    taps[:, -_TAPS // 4 :] *= 0.5 + 0.5 * np.cos(np.pi * np.arange(_TAPS // 4) / (_TAPS // 4))
    result: NDArray[np.float32] = taps.astype(np.float32)
    return result


def _linear(level_db: NDArray[np.float64]) -> NDArray[np.float32]:
    around = irfft(10.0 ** (level_db / 20.0), FILTER_SIZE)
    half = _TAPS // 2
    taps = (
        np.concatenate([around[:, -half:], around[:, : half + 1]], axis=1)
        * np.hanning(_TAPS + 3)[1:-1]
    )
    return taps.astype(np.float32)


def filter_response_db(
    taps: NDArray[np.float32], frequencies_hz: NDArray[np.float64], rate_hz: int
) -> NDArray[np.float64]:
    """The level of filters at frequencies, (filters, frequencies)."""
    turns = np.exp(-2j * np.pi * np.outer(np.arange(taps.shape[1]), frequencies_hz) / rate_hz)
    result: NDArray[np.float64] = 20.0 * np.log10(
        np.maximum(np.abs(taps.astype(np.float64) @ turns), 1e-9)
    )
    return result
