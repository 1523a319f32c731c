"""One resonant band, brought out or taken away beside the untouched sound."""

from typing import ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from metaphon.core.dsp.block import Block
from metaphon.core.dsp.filter_shapes import band_alone
from metaphon.core.dsp.motion import Memo, Motion
from metaphon.core.dsp.sections import Cascade, Sections, response, ring_s
from metaphon.core.process.processor import Channels, Processor, Running, choice, parameter


class Resonator(Processor):
    """Find a ringing frequency by sweeping, then lift it or take it out."""

    title: ClassVar[str] = "Resonator"

    kind: Literal["resonator"] = "resonator"
    action: Literal["emphasise", "remove"] = choice(
        "emphasise", help="Add the band, or take it out."
    )
    frequency_hz: float = parameter(
        400.0,
        20.0,
        20000.0,
        unit="Hz",
        step=1.0,
        scale="log",
        help="Centre; drag it while listening.",
    )
    sharpness: float = parameter(
        8.0, 0.5, 80.0, unit="", step=0.1, scale="log", help="Centre over bandwidth (Q)."
    )
    emphasis_db: float = parameter(
        6.0, 0.0, 24.0, unit="dB", step=0.1, help="Emphasis: lift at the centre."
    )
    mix: float = parameter(
        100.0, 0.0, 100.0, unit="%", step=1.0, help="How much of the band counts."
    )
    gain_db: float = parameter(0.0, -24.0, 24.0, unit="dB", step=0.1, help="Gain after it.")

    def start(self, channels: Channels, rate_hz: int, latency: int) -> Running:
        return _Resonator(channels.count, rate_hz)

    def tail_s(self, rate_hz: int, fall_db: float = 60.0) -> float:
        return ring_s(self.section(rate_hz), rate_hz, fall_db)

    def response(self, frequencies_hz: NDArray[np.float64], rate_hz: int) -> NDArray[np.complex128]:
        return response(self.section(rate_hz), frequencies_hz, rate_hz)

    def section(self, rate_hz: int) -> Sections:
        """The sound and a part of its band as one section, (1, 5)."""
        [[g, k, _, band, _]] = band_alone(self.frequency_hz, self.sharpness, rate_hz)
        gain = self.gain
        return np.array([[g, k, gain, gain * (k + self.share * band), gain]])

    @property
    def share(self) -> float:
        """What of the band is added to the sound; negative takes it away, -1 wholly."""
        whole = 10.0 ** (self.emphasis_db / 20.0) - 1.0 if self.action == "emphasise" else -1.0
        return whole * self.mix / 100.0

    @property
    def gain(self) -> float:
        result: float = 10.0 ** (self.gain_db / 20.0)
        return result


class _Resonator:
    def __init__(self, channels: int, rate_hz: int) -> None:
        self._band = Cascade(channels)
        self._section: Memo[Resonator, Sections] = Memo(lambda one: one.section(rate_hz))

    def process(self, block: Block, parameters: Motion[Resonator], at: int) -> Block:
        return self._band.process(block, parameters.map(lambda one: (self._section(one),)))
