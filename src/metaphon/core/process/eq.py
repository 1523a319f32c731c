"""An equaliser of any number of bands, in minimum or linear phase."""

from functools import lru_cache
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, model_validator
from scipy.fft import irfft, next_fast_len, rfftfreq

from metaphon.core.dsp.block import Block
from metaphon.core.dsp.convolution import FilterWithMemory
from metaphon.core.dsp.filter_shapes import band_alone, high_cut, low_cut
from metaphon.core.dsp.fractional_delay import FractionalDelay
from metaphon.core.dsp.matched import inverse, matched
from metaphon.core.dsp.motion import STEP_S, Memo, Motion
from metaphon.core.dsp.sections import Cascade, Sections, passing, response, ring_s
from metaphon.core.process.basics import Slope
from metaphon.core.process.processor import Channels, Processor, Running, choice, parameter, switch

Shape = Literal["bell", "low_shelf", "high_shelf", "low_cut", "high_cut", "notch", "tilt"]
_GAINLESS = ("low_cut", "high_cut", "notch")
_MOST_BANDS = 24
_EARLIER_LENGTHS = {"1024": "20", "2048": "40", "4096": "80", "8192": "160", "16384": "320"}
_BETA = 4.0  # of the Kaiser window: 40 Hz cut at 48 dB an octave holds 40 dB at 20 Hz in 160 ms


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
    slope_db: Slope = choice("12", help="Slope of a cut in dB per octave.", unit="dB/oct")

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
        """The band as sections, (sections, 5); one that is off passes everything.

        The analogue filters of the Audio EQ Cookbook (R. Bristow-Johnson; W3C note 2021), matched
        (`dsp.matched`) but for notches and low-cuts, which are bilinear. Cuts: Butterworth. Tilt:
        one pole and one zero an equal ratio below and above the pivot.
        """
        found = _sections(
            self.shape, self.frequency_hz, self.gain_db, self.q, int(self.slope_db), rate_hz
        )
        return found if self.on else passing(found)


@lru_cache(8192)
def _sections(
    shape: Shape, frequency_hz: float, gain_db: float, q: float, slope_db: int, rate_hz: int
) -> Sections:
    if shape == "low_cut":
        return low_cut(frequency_hz, slope_db, rate_hz)
    if shape == "high_cut":
        return high_cut(frequency_hz, slope_db, rate_hz)
    turn = 2.0 * np.pi * frequency_hz / rate_hz
    if shape == "notch":
        [[g, k, *_]] = band_alone(frequency_hz, q, rate_hz)
        return np.array([[g, k, 1.0, 0.0, 1.0]])
    # a cut is the lift turned over, and a high shelf a low one with its gain moved
    a = 10.0 ** (abs(gain_db) / 40.0)
    root = np.sqrt(a)
    if shape == "bell":
        found = matched((1.0, a / q, 1.0), (1.0, 1.0 / (a * q), 1.0), turn)
    elif shape == "tilt":
        found = matched((a, 1.0 + a * a, a), (1.0, 2.0 * a, a * a), turn)
    elif shape == "low_shelf":
        found = matched((a, root * a / q, a * a), (a, root / q, 1.0), turn)
    else:  # the high shelf that falls: its zeros lie where its poles would, the other way about
        found = matched((1.0, root / q, a), (a * a, root * a / q, a), turn)
        return found if gain_db < 0.0 else inverse(found)
    return found if gain_db >= 0.0 else inverse(found)


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
    length_ms: Literal["20", "40", "80", "160", "320"] = choice(
        "160",
        help=(
            "Linear phase: how long the filter is, in ms, half of it before the sound; it tells "
            "frequencies apart that are 1000 over it in Hz."
        ),
        unit="ms",
    )

    @model_validator(mode="before")
    @classmethod
    def _in_ms(cls, given: Any) -> Any:
        """Take the length in samples of earlier documents too."""
        if isinstance(given, dict) and "length" in given:
            rest = {name: value for name, value in given.items() if name != "length"}
            return {"length_ms": _EARLIER_LENGTHS.get(given["length"], "160"), **rest}
        return given

    def start(self, channels: Channels, rate_hz: int, latency: int) -> Running:
        return _Eq(channels.count, rate_hz, latency)

    def sections(self, rate_hz: int) -> tuple[Sections, ...]:
        """The sections of each band."""
        return tuple(band.sections(rate_hz) for band in self.bands)

    def taps(self, rate_hz: int) -> NDArray[np.float64]:
        """The linear-phase filter, symmetric, (half its length in samples twice, and one)."""
        return _taps(self.bands, self.length_ms, rate_hz)

    def half_length(self, rate_hz: int) -> int:
        """How late the linear-phase filter is, in samples."""
        return round(float(self.length_ms) * 0.5e-3 * rate_hz)

    def tail_s(self, rate_hz: int) -> float:
        if self.phase == "linear":
            return float(self.length_ms) * 1e-3
        return sum(ring_s(sections, rate_hz) for sections in self.sections(rate_hz))

    @property
    def brief(self) -> str:
        return f"{self.title} {len(self.bands)}" if self.bands else self.title

    def remark(self, rate_hz: int) -> str:
        if self.phase == "minimum":
            return ""
        length_ms = float(self.length_ms)
        said = (
            f"Tells {1000.0 / length_ms:.1f} Hz apart, sounds up to {length_ms / 2:.0f} ms ahead."
        )
        hertz = np.geomspace(10.0, 20000.0, 240)
        wanted = self.model_copy(update={"phase": "minimum"}).response(hertz, rate_hz)
        levels = [
            20.0 * np.log10(np.maximum(np.abs(part), 1e-3))
            for part in (wanted, self.response(hertz, rate_hz))
        ]
        off = np.abs(levels[1] - levels[0])
        worst = int(np.argmax(off))
        if off[worst] < 0.5:
            return said
        return (
            f"{said} {levels[1][worst]:.0f} instead of {levels[0][worst]:.0f} dB at "
            f"{hertz[worst]:.0f} Hz; longer is truer."
        )

    def latency_samples(self, rate_hz: int) -> int:
        return self.half_length(rate_hz) if self.phase == "linear" else 0

    def response(self, frequencies_hz: NDArray[np.float64], rate_hz: int) -> NDArray[np.complex128]:
        if self.phase == "minimum":
            parts = [response(one, frequencies_hz, rate_hz) for one in self.sections(rate_hz)]
            start = np.ones(len(frequencies_hz), dtype=np.complex128)
            return np.asarray(np.prod([start, *parts], axis=0))
        taps = self.taps(rate_hz)
        half = len(taps) // 2
        # symmetric about its middle, so real: a cosine series
        turns = 2 * np.pi * np.outer(frequencies_hz / rate_hz, np.arange(1, half + 1))
        result: NDArray[np.complex128] = (taps[half] + 2 * np.cos(turns) @ taps[half + 1 :]).astype(
            np.complex128
        )
        return result


@lru_cache(256)
def _taps(bands: tuple[Band, ...], length_ms: str, rate_hz: int) -> NDArray[np.float64]:
    half = round(float(length_ms) * 0.5e-3 * rate_hz)
    on = [band.sections(rate_hz) for band in bands if band.on]
    return linear_phase_taps(np.concatenate([*on, np.zeros((0, 5))]), 2 * half, rate_hz)


def linear_phase_taps(sections: Sections, length: int, rate_hz: int) -> NDArray[np.float64]:
    """A symmetric filter with the magnitude of second-order sections.

    Parameters
    ----------
    sections
        (sections, 5).
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
        sampling under a Kaiser window.
    """
    size = next_fast_len(4 * length, real=True)
    size += size % 2
    magnitude = np.abs(response(sections, rfftfreq(size, 1.0 / rate_hz), rate_hz))
    around = irfft(magnitude, size)
    half = length // 2
    taps = around[: half + 1] * np.kaiser(length + 1, _BETA)[half:]
    return np.concatenate([taps[:0:-1], taps])


class _Eq:
    """All bands, in minimum phase or in linear; one passes over to the other."""

    def __init__(self, channels: int, rate_hz: int, latency: int) -> None:
        self._rate_hz = rate_hz
        self._latency = latency
        self._bands = Cascade(channels)
        self._delay = FractionalDelay(channels)
        self._whole = FilterWithMemory(channels)
        self._sections: Memo[Eq, tuple[Sections, ...]] = Memo(lambda one: one.sections(rate_hz))
        self._taps: Memo[Eq, NDArray[np.float64]] = Memo(self._placed)

    def _placed(self, one: Eq) -> NDArray[np.float64]:
        """The filter with the delay that makes it as late as all are to be."""
        before = self._latency - one.half_length(self._rate_hz)
        return np.concatenate([np.zeros(max(before, 0)), one.taps(self._rate_hz)])

    def process(self, block: Block, parameters: Motion[Eq], at: int) -> Block:
        linear = parameters.map(lambda one: float(one.phase == "linear"))
        if not linear.moves:
            return (
                self._linear(block, parameters)
                if linear.values[0]
                else self._least(block, parameters)
            )
        share = linear.line(block.shape[1]).astype(np.float32)
        return self._linear(block, parameters) * share + self._least(block, parameters) * (
            1.0 - share
        )

    def _linear(self, block: Block, parameters: Motion[Eq]) -> Block:
        thinned = parameters.thinned(round(STEP_S * self._rate_hz) + 2)
        return self._whole.process(block, thinned.map(self._taps))

    def _least(self, block: Block, parameters: Motion[Eq]) -> Block:
        """In minimum phase, held back where linear phase is what all are as late as."""
        filtered = self._bands.process(block, parameters.map(self._sections))
        return self._delay.process(filtered, Motion.still(float(self._latency)))
