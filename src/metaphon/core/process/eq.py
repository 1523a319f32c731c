"""An equaliser of any number of bands, in minimum or linear phase."""

from functools import lru_cache
from operator import itemgetter
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

Side = Literal["both", "left", "right", "mid", "side"]
Shape = Literal["bell", "low_shelf", "high_shelf", "low_cut", "high_cut", "notch", "tilt"]
SIDES: tuple[Side, ...] = ("left", "right", "mid", "side")
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
    side: Side = choice(
        "both", help="What of a stereo sound it is for; sides first, then mid and side.", channels=2
    )

    @property
    def used(self) -> tuple[str, ...]:
        """The names of the parameters that count for this shape."""
        if self.shape in ("low_cut", "high_cut"):
            return ("frequency_hz", "slope_db", "side")
        if self.shape == "notch":
            return ("frequency_hz", "q", "side")
        if self.shape == "tilt":
            return ("frequency_hz", "gain_db", "side")
        return ("frequency_hz", "gain_db", "q", "side")

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

    def sections(self, rate_hz: int, side: Side = "both") -> tuple[Sections, ...]:
        """The sections of each band that is for a side."""
        return tuple(band.sections(rate_hz) for band in self.bands if band.side == side)

    def taps(self, rate_hz: int) -> NDArray[np.float64]:
        """The linear-phase filter of what is for both sides, symmetric, (its length and one)."""
        return _taps(self.bands, self.length_ms, rate_hz)

    @property
    def sides(self) -> bool:
        """Whether a band at work is for one side alone."""
        return any(band.on and band.side != "both" for band in self.bands)

    def heard_on(self, side: Side) -> "Eq":
        """What a side alone goes through, as an equaliser for both."""
        bands = [band for band in self.bands if band.side in ("both", side)]
        plain = tuple(band.model_copy(update={"side": "both"}) for band in bands)
        return self.model_copy(update={"bands": plain})

    def half_length(self, rate_hz: int) -> int:
        """How late the linear-phase filter is, in samples."""
        return round(float(self.length_ms) * 0.5e-3 * rate_hz)

    def tail_s(self, rate_hz: int, fall_db: float = 60.0) -> float:
        if self.phase == "linear":
            return float(self.length_ms) * 1e-3
        return sum(ring_s(sections, rate_hz, fall_db) for sections in self.sections(rate_hz))

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
        wanted = _by_sections(self.sections(rate_hz), hertz, rate_hz)
        levels = [
            20.0 * np.log10(np.maximum(np.abs(part), 1e-3))
            for part in (wanted, _by_taps(self.taps(rate_hz), hertz, rate_hz))
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

    def response(
        self, frequencies_hz: NDArray[np.float64], rate_hz: int
    ) -> NDArray[np.complex128] | None:
        if self.sides:
            return None
        if self.phase == "minimum":
            return _by_sections(self.sections(rate_hz), frequencies_hz, rate_hz)
        return _by_taps(self.taps(rate_hz), frequencies_hz, rate_hz)


def _by_sections(
    bands: tuple[Sections, ...], frequencies_hz: NDArray[np.float64], rate_hz: int
) -> NDArray[np.complex128]:
    parts = [response(one, frequencies_hz, rate_hz) for one in bands]
    start = np.ones(len(frequencies_hz), dtype=np.complex128)
    return np.asarray(np.prod([start, *parts], axis=0))


def _by_taps(
    taps: NDArray[np.float64], frequencies_hz: NDArray[np.float64], rate_hz: int
) -> NDArray[np.complex128]:
    half = len(taps) // 2
    # symmetric about its middle, so real: a cosine series
    turns = 2 * np.pi * np.outer(frequencies_hz / rate_hz, np.arange(1, half + 1))
    result: NDArray[np.complex128] = (taps[half] + 2 * np.cos(turns) @ taps[half + 1 :]).astype(
        np.complex128
    )
    return result


@lru_cache(256)
def _taps(bands: tuple[Band, ...], length_ms: str, rate_hz: int) -> NDArray[np.float64]:
    length = 2 * round(float(length_ms) * 0.5e-3 * rate_hz)
    on = [band.sections(rate_hz) for band in bands if band.on and band.side == "both"]
    return linear_phase_taps(np.concatenate([*on, np.zeros((0, 5))]), length, rate_hz)


@lru_cache(256)
def _late_taps(one: Eq, rate_hz: int, latency: int) -> NDArray[np.float64]:
    """The linear-phase filter of what is for both sides, as late as all are to be."""
    return _later(one.taps(rate_hz), latency)


@lru_cache(64)
def _pair_taps(one: Eq, rate_hz: int, latency: int) -> tuple[NDArray[np.float64], ...]:
    """Linear-phase filters of a pair, to left from left and right, to right from left and right.

    All responses are real, so those that follow on one another are one filter and no later.
    """
    length = 2 * one.half_length(rate_hz)
    hertz = rfftfreq(_taps_size(length), 1.0 / rate_hz)
    on = Eq(bands=tuple(band for band in one.bands if band.on))
    both, left, right, mid, side = (
        np.abs(_by_sections(on.sections(rate_hz, side), hertz, rate_hz))
        for side in ("both", *SIDES)
    )
    straight, across = 0.5 * (mid + side) * both, 0.5 * (mid - side) * both
    ways = (straight * left, across * right, across * left, straight * right)
    return tuple(_later(_windowed(way, length), latency) for way in ways)


def _later(taps: NDArray[np.float64], latency: int) -> NDArray[np.float64]:
    return np.concatenate([np.zeros(max(latency - len(taps) // 2, 0)), taps])


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
    hertz = rfftfreq(_taps_size(length), 1.0 / rate_hz)
    return _windowed(np.abs(response(sections, hertz, rate_hz)), length)


def _taps_size(length: int) -> int:
    """Of the FFT by which taps are made, even."""
    size: int = next_fast_len(4 * length, real=True)
    return size + size % 2


def _windowed(real: NDArray[np.float64], length: int) -> NDArray[np.float64]:
    """Taps with a real response, by frequency, cut to a length."""
    around = irfft(real, _taps_size(length))
    half = length // 2
    taps = around[: half + 1] * np.kaiser(length + 1, _BETA)[half:]
    return np.concatenate([taps[:0:-1], taps])


class _Eq:
    """All bands, in minimum phase or in linear; one passes over to the other."""

    def __init__(self, channels: int, rate_hz: int, latency: int) -> None:
        self._rate_hz = rate_hz
        self._latency = latency
        self._stereo = channels == 2
        self._bands = Cascade(channels)
        self._sides = {side: Cascade(1) for side in SIDES}
        self._delay = FractionalDelay(channels, latency)
        self._whole = FilterWithMemory(channels)
        self._ways = [FilterWithMemory(1) for _ in range(4)]  # of a pair, while sides differ
        self._apart = False
        self._sections: Memo[Eq, tuple[Sections, ...]] = Memo(lambda one: one.sections(rate_hz))

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
        few = parameters.thinned(round(STEP_S * self._rate_hz) + 2)
        apart = self._stereo and any(one.sides for one in few.values)
        if apart != self._apart:
            self._part(apart)
        if not apart:
            taps = few.map(lambda one: _late_taps(one, self._rate_hz, self._latency))
            return self._whole.process(block, taps)
        pairs = few.map(lambda one: _pair_taps(one, self._rate_hz, self._latency))
        ears = [
            way.process(block[n % 2 : n % 2 + 1], pairs.map(itemgetter(n)))
            for n, way in enumerate(self._ways)
        ]
        return np.concatenate([ears[0] + ears[1], ears[2] + ears[3]])

    def _part(self, apart: bool) -> None:
        """Let the filters of a pair remember what the common one was given, or the other way."""
        self._apart = apart
        if apart:
            for n, way in enumerate(self._ways):
                way.remember([(self._whole, n % 2)])
        else:
            self._whole.remember([(self._ways[0], 0), (self._ways[1], 0)])

    def _least(self, block: Block, parameters: Motion[Eq]) -> Block:
        """In minimum phase, held back where linear phase is what all are as late as."""
        filtered = self._bands.process(block, parameters.map(self._sections))
        if self._stereo:
            filtered = self._by_side(filtered, parameters)
        return self._delay.process(filtered, Motion.still(float(self._latency)))

    def _by_side(self, block: Block, parameters: Motion[Eq]) -> Block:
        used = {band.side for one in parameters.values for band in one.bands}

        def own(sound: Block, side: Side) -> Block:
            bands = parameters.map(lambda one: one.sections(self._rate_hz, side))
            return self._sides[side].process(sound, bands)

        if used & {"left", "right"}:
            block = np.concatenate([own(block[:1], "left"), own(block[1:], "right")])
        if used & {"mid", "side"}:
            mid = own(0.5 * (block[:1] + block[1:]), "mid")
            side = own(0.5 * (block[:1] - block[1:]), "side")
            block = np.concatenate([mid + side, mid - side])
        return block
