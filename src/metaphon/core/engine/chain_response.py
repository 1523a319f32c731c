"""What a row of processors does to each frequency: by its formulas, and measured through it."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft, next_fast_len, rfft

from metaphon.core.dsp.motion import PIECE, Motion
from metaphon.core.process.processor import Channels, Processor

Curve = NDArray[np.float64]
Response = NDArray[np.complex128]

FREQUENCIES_HZ = np.geomspace(20.0, 20000.0, 500)
_SWEEP_S = 2.0
_LOWEST_HZ = 5.0
_LEVEL = 0.1  # of the sweep, so that what lifts does not go far beyond full scale
_FLOOR = 1e-9


@dataclass(frozen=True)
class ChainResponse:
    """A response at FREQUENCIES_HZ, the latency that is made up for not counted.

    `computed` is by formula, None where a processor has none; `measured` is by a sweep. The group
    delay is how late the envelope of each frequency comes, minus the slope of the phase (Oppenheim
    & Schafer, section 5.1.2). `impulse` is what a click becomes, `before` frames of it ahead of the
    click itself.
    """

    rate_hz: int
    computed: Response | None
    measured: Response
    group_delay_ms: Curve
    impulse: Curve
    before: int
    latency: int

    @property
    def best(self) -> Response:
        """By formula where there is one."""
        return self.measured if self.computed is None else self.computed

    def phase_deg(self, unwrapped: bool = False) -> Curve:
        """The phase in degrees, between -180 and 180, or on from the lowest frequency."""
        if not unwrapped:
            return np.asarray(np.degrees(np.angle(self.best)))
        # without its delay, so that it turns little from one frequency to the next
        turn = 2.0 * np.pi * FREQUENCIES_HZ * float(np.median(self.group_delay_ms)) / 1000.0
        phase = np.unwrap(np.angle(self.best * np.exp(1j * turn))) - turn
        return np.asarray(np.degrees(phase))

    @property
    def pre_echo_db(self) -> float:
        """The energy ahead of where the click is, against all of it."""
        energy = self.impulse**2
        ahead, whole = float(energy[: self.before - 1].sum()), float(energy.sum())
        return float(10.0 * np.log10(max(ahead, _FLOOR * whole) / max(whole, 1e-30)))


def magnitude_db(response: Response) -> Curve:
    """The level of each frequency in dB."""
    return np.asarray(20.0 * np.log10(np.maximum(np.abs(response), _FLOOR)))


def response_of(
    processors: Sequence[Processor], rate_hz: int, channels: int = 1, channel: int = 0
) -> ChainResponse:
    """The response of processors one after the other, at rest, from one channel to itself.

    Parameters
    ----------
    processors
        Those that are bypassed are left out.
    rate_hz, channels, channel
        Of the sound, and which of its channels, counted from 0.

    References
    ----------
        A. Farina, Simultaneous measurement of impulse response and distortion with a swept-sine
        technique, AES 108th Convention, 2000: an exponential sweep through the chain, divided by
        the sweep itself.
    """
    at_work = [one for one in processors if not one.bypassed]
    sweep = _sweep(rate_hz)
    tail_s = sum(one.tail_s(rate_hz) for one in at_work) + sum(
        one.latency_samples(rate_hz) / rate_hz for one in at_work
    )
    frames = -(-(len(sweep) + round(min(tail_s + 0.2, 20.0) * rate_hz)) // PIECE) * PIECE
    sound = np.zeros((channels, frames), dtype=np.float32)
    sound[channel, : len(sweep)] = sweep
    latency = 0
    for one in at_work:
        late = one.latency_samples(rate_hz)
        running = one.start(Channels(channels), rate_hz, late)
        pieces = (sound[:, at : at + PIECE] for at in range(0, frames, PIECE))
        given = [running.process(p, Motion.still(one), n * PIECE) for n, p in enumerate(pieces)]
        sound, latency = np.concatenate(given, axis=1), latency + late
    size = next_fast_len(2 * frames, real=True)
    spectrum, sent = rfft(sound[channel].astype(float), size), rfft(sweep, size)
    # where the sweep has nothing there is nothing to divide by
    whole = spectrum * np.conj(sent) / np.maximum(np.abs(sent) ** 2, 1e-8 * np.abs(sent).max() ** 2)
    hz = np.arange(len(whole)) * rate_hz / size
    whole *= np.exp(2j * np.pi * hz * latency / rate_hz)
    before = latency + PIECE
    impulse = np.roll(irfft(whole, size), before)[: before + frames]
    measured = np.interp(FREQUENCIES_HZ, hz, whole.real) + 1j * np.interp(
        FREQUENCIES_HZ, hz, whole.imag
    )
    formula = by_formula(at_work, rate_hz, channels, channel)
    if formula is not None:
        return ChainResponse(rate_hz, formula[0], measured, formula[1], impulse, before, latency)
    apart = whole[2:] * np.conj(whole[:-2])
    delay = np.interp(FREQUENCIES_HZ, hz[1:-1], _delay_ms(apart, 2.0 * hz[1]))
    return ChainResponse(rate_hz, None, measured, delay, impulse, before, latency)


def by_formula(
    processors: Sequence[Processor], rate_hz: int, channels: int = 1, channel: int = 0
) -> tuple[Response, Curve] | None:
    """The response and group delay in ms of processors in a row at FREQUENCIES_HZ, by formula.

    None where one of them has none.
    """
    step = 1e-5 * FREQUENCIES_HZ
    found = [
        _computed(processors, FREQUENCIES_HZ + by, rate_hz, channels, channel)
        for by in (0.0, -step, step)
    ]
    here, below, above = found
    if here is None or below is None or above is None:
        return None
    return here, _delay_ms(above * np.conj(below), 2.0 * step)


def _delay_ms(turned: Response, apart_hz: Curve | float) -> Curve:
    """The delay that turns a response by so much over so small a step of frequency.

    Where next to nothing passes there is none to be had, and 0 is given.
    """
    passes = np.abs(turned) > 1e-8 * np.abs(turned).max(initial=0.0)
    return np.where(passes, -np.angle(turned) / (2.0 * np.pi * apart_hz) * 1000.0, 0.0)


def _computed(
    processors: Sequence[Processor], at_hz: Curve, rate_hz: int, channels: int, channel: int
) -> Response | None:
    total = np.ones(len(at_hz), dtype=np.complex128)
    for one in processors:
        filtered, matrix = one.response(at_hz, rate_hz), one.matrix(channels)
        if filtered is None and matrix is None:
            return None
        if filtered is not None:
            total = total * filtered
        if matrix is not None:
            delay_ms, _ = one.delay_and_polarity(channel + 1)
            turn = np.exp(-2j * np.pi * at_hz * delay_ms / 1000.0)
            total = total * matrix[channel, channel] * turn
    return total


def _sweep(rate_hz: int) -> Curve:
    """An exponential sweep over all that the rate holds, eased in and out."""
    frames = round(_SWEEP_S * rate_hz)
    span = np.log(0.5 * rate_hz / _LOWEST_HZ)
    t = np.arange(frames) / rate_hz
    sweep = np.sin(2.0 * np.pi * _LOWEST_HZ * _SWEEP_S / span * np.expm1(t / _SWEEP_S * span))
    ease = min(round(0.02 * rate_hz), frames // 4)
    rise = np.sin(np.linspace(0.0, np.pi / 2.0, ease)) ** 2
    sweep[:ease] *= rise
    sweep[-ease // 8 :] *= np.linspace(1.0, 0.0, len(sweep[-ease // 8 :]))
    return np.asarray(sweep * _LEVEL)
