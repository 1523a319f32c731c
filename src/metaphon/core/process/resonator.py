"""One resonant band, brought out or taken away beside the untouched sound."""

from typing import ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from scipy.signal import sosfilt, sosfreqz

from metaphon.core.dsp.block import Block
from metaphon.core.process.processor import Processor, Running, choice, parameter


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

    def start(self, channels: int, rate_hz: int) -> Running:
        return _Resonator(self, channels, rate_hz)

    def response(self, frequencies_hz: NDArray[np.float64], rate_hz: int) -> NDArray[np.complex128]:
        band = np.asarray(sosfreqz(self.section(rate_hz), frequencies_hz, fs=rate_hz)[1])
        return (self.gain * (1.0 + self.share * band)).astype(np.complex128)

    def section(self, rate_hz: int) -> NDArray[np.float64]:
        """A band-pass with 0 dB at its centre. Source: Audio EQ Cookbook (W3C note 2021)."""
        turn = 2 * np.pi * min(self.frequency_hz, 0.49 * rate_hz) / rate_hz
        alpha = np.sin(turn) / (2 * self.sharpness)
        result: NDArray[np.float64] = np.array(
            [[alpha, 0.0, -alpha, 1 + alpha, -2 * np.cos(turn), 1 - alpha]]
        ) / (1 + alpha)
        return result

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
    def __init__(self, parameters: Resonator, channels: int, rate_hz: int) -> None:
        self._section = parameters.section(rate_hz)
        self._share, self._gain = parameters.share, parameters.gain
        self._state = np.zeros((1, channels, 2))

    def process(self, block: Block) -> Block:
        sound = block.astype(np.float64)
        band, self._state = sosfilt(self._section, sound, axis=1, zi=self._state)
        result: Block = (self._gain * (sound + self._share * band)).astype(np.float32)
        return result
