"""An equaliser of any number of bands, in minimum or linear phase."""

from typing import ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field
from scipy.signal import sosfilt, sosfreqz

from metaphon.core.dsp.block import Block
from metaphon.core.dsp.convolution import ChannelFilter
from metaphon.core.process.basics import Slope, cut_sections
from metaphon.core.process.processor import Processor, Running, choice, parameter, switch

Sections = NDArray[np.float64]
Shape = Literal["bell", "low_shelf", "high_shelf", "low_cut", "high_cut", "notch", "tilt"]
_GAINLESS = ("low_cut", "high_cut", "notch")
_MOST_BANDS = 24


class Band(BaseModel):
    """One band. Gain and sharpness (q) count where the shape has them, slope only for cuts."""

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)

    shape: Shape = choice("bell", help="What the band does.")
    on: bool = switch(True, help="Whether the band counts.")
    frequency_hz: float = parameter(
        1000.0, 10.0, 22000.0, unit="Hz", step=1.0, scale="log", help="Centre, corner or pivot."
    )
    gain_db: float = parameter(0.0, -24.0, 24.0, unit="dB", step=0.1, help="Lift or fall.")
    q: float = parameter(0.71, 0.1, 40.0, unit="", step=0.01, scale="log", help="Sharpness.")
    slope_db: Slope = choice("12", help="Slope of a cut in dB per octave.")

    @property
    def used(self) -> tuple[str, ...]:
        """The names of the parameters that count for this shape."""
        if self.shape in ("low_cut", "high_cut"):
            return ("frequency_hz", "slope_db")
        if self.shape == "notch":
            return ("frequency_hz", "q")
        return (
            ("frequency_hz", "gain_db")
            if self.shape == "tilt"
            else ("frequency_hz", "gain_db", "q")
        )

    def sections(self, rate_hz: int) -> Sections:
        """Second-order sections, (sections, 6).

        Bells, shelves and notch: Audio EQ Cookbook (R. Bristow-Johnson; W3C note 2021). Cuts:
        Butterworth. Tilt: one pole and one zero an equal ratio below and above the pivot.
        """
        frequency = min(self.frequency_hz, 0.49 * rate_hz)
        if self.shape in ("low_cut", "high_cut"):
            return cut_sections(
                "high" if self.shape == "low_cut" else "low", frequency, int(self.slope_db), rate_hz
            )
        turn = 2 * np.pi * frequency / rate_hz
        cosine, alpha = np.cos(turn), np.sin(turn) / (2 * self.q)
        a = 10.0 ** (self.gain_db / 40.0)
        if self.shape == "tilt":
            pole = np.tan(turn / 2)
            b0, b1, a0, a1 = a + pole, pole - a, 1 + a * pole, a * pole - 1
            result: Sections = np.array([[b0, b1, 0.0, a0, a1, 0.0]]) / a0
            return result
        if self.shape == "bell":
            b = [1 + alpha * a, -2 * cosine, 1 - alpha * a]
            d = [1 + alpha / a, -2 * cosine, 1 - alpha / a]
        elif self.shape == "notch":
            b, d = [1.0, -2 * cosine, 1.0], [1 + alpha, -2 * cosine, 1 - alpha]
        else:
            k = 2 * np.sqrt(a) * alpha
            sign = 1.0 if self.shape == "low_shelf" else -1.0
            up, down = a + 1, a - 1
            b = [
                a * (up - sign * down * cosine + k),
                sign * 2 * a * (down - sign * up * cosine),
                a * (up - sign * down * cosine - k),
            ]
            d = [
                up + sign * down * cosine + k,
                -sign * 2 * (down + sign * up * cosine),
                up + sign * down * cosine - k,
            ]
        made: Sections = np.array([[*b, *d]]) / d[0]
        return made


class Eq(Processor):
    """Bells, shelves, cuts, notches and tilts.

    Linear phase keeps the wave's shape and costs latency.
    """

    title: ClassVar[str] = "Equaliser"

    kind: Literal["eq"] = "eq"
    bands: tuple[Band, ...] = Field(
        (),
        max_length=_MOST_BANDS,
        description="The bands, one after the other.",
        json_schema_extra={"role": "bands"},
    )
    phase: Literal["minimum", "linear"] = choice(
        "minimum", help="Linear keeps phase and costs latency."
    )
    length: Literal["1024", "2048", "4096", "8192", "16384"] = choice(
        "4096",
        help=(
            "Linear phase: samples the filter spans; longer is exact to lower "
            "frequencies, and later."
        ),
    )

    def start(self, channels: int, rate_hz: int) -> Running:
        sections = self.sections(rate_hz)
        if self.phase == "linear":
            return ChannelFilter(linear_phase_taps(sections, int(self.length), rate_hz), channels)
        return _MinimumPhase(sections, channels)

    def sections(self, rate_hz: int) -> Sections:
        """All bands that are on, as second-order sections.

        One that passes everything where there is none.
        """
        found = [band.sections(rate_hz) for band in self.bands if band.on]
        return np.concatenate(found) if found else np.array([[1.0, 0.0, 0.0, 1.0, 0.0, 0.0]])

    @property
    def tail_s(self) -> float:
        return int(self.length) / 44100.0 if self.phase == "linear" else 0.0

    @property
    def brief(self) -> str:
        return f"{self.title} {len(self.bands)}" if self.bands else self.title

    def latency_samples(self, rate_hz: int) -> int:
        return int(self.length) // 2 if self.phase == "linear" else 0

    def response(self, frequencies_hz: NDArray[np.float64], rate_hz: int) -> NDArray[np.complex128]:
        sections = self.sections(rate_hz)
        if self.phase == "minimum":
            return np.asarray(sosfreqz(sections, frequencies_hz, fs=rate_hz)[1])
        taps = linear_phase_taps(sections, int(self.length), rate_hz)
        half = len(taps) // 2
        # symmetric about its middle, so real: a cosine series
        turns = 2 * np.pi * np.outer(frequencies_hz / rate_hz, np.arange(1, half + 1))
        result: NDArray[np.complex128] = (taps[half] + 2 * np.cos(turns) @ taps[half + 1 :]).astype(
            np.complex128
        )
        return result


def linear_phase_taps(sections: Sections, length: int, rate_hz: int) -> NDArray[np.float64]:
    """A symmetric filter with the magnitude of second-order sections.

    Parameters
    ----------
    sections
        (sections, 6).
    length
        Taps less one, even; the delay is half of it.
    rate_hz
        Of the sound.

    Returns
    -------
        Taps, (length + 1).

    References
    ----------
        A. V. Oppenheim & R. W. Schafer, Discrete-time signal processing, section 7.5: frequency
        sampling under a Hann window.
    """
    grid = np.arange(4 * length // 2 + 1) * rate_hz / (4 * length)
    magnitude = np.abs(sosfreqz(sections, grid, fs=rate_hz)[1])
    around = np.fft.irfft(magnitude)
    half = length // 2
    taps = around[: half + 1] * np.hanning(length + 3)[half + 1 : -1]
    return np.concatenate([taps[:0:-1], taps])


class _MinimumPhase:
    def __init__(self, sections: Sections, channels: int) -> None:
        self._sections = sections
        self._state = np.zeros((len(sections), channels, 2))

    def process(self, block: Block) -> Block:
        filtered, self._state = sosfilt(
            self._sections, block.astype(np.float64), axis=1, zi=self._state
        )
        result: Block = filtered.astype(np.float32)
        return result
