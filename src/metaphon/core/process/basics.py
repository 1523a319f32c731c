"""The strip's own tools.

Gain, polarity, mid and side, width, balance, position of each side, low-cut, delay.
"""

from typing import ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from metaphon.core.dsp.block import Block
from metaphon.core.dsp.filter_shapes import low_cut
from metaphon.core.dsp.fractional_delay import HALF, FractionalDelay
from metaphon.core.dsp.motion import Memo, Motion, mixed
from metaphon.core.dsp.sections import (
    Cascade,
    Sections,
    passing,
    response,
    ring_s,
)
from metaphon.core.process.processor import Channels, Processor, Running, choice, parameter, switch

Matrix = NDArray[np.float64]
Slope = Literal["6", "12", "18", "24", "30", "36", "42", "48"]

_LATEST_MS = 1000.0
_MID_SIDE = np.array([[0.5, 0.5], [0.5, -0.5]])
_LEFT_RIGHT = np.array([[1.0, 1.0], [1.0, -1.0]])


class Basics(Processor):
    """Everything that is one matrix, one low-cut and one delay.

    Some of it counts for stereo only.
    """

    title: ClassVar[str] = "Basics"

    kind: Literal["basics"] = "basics"
    input_gain_db: float = parameter(
        0.0, -60.0, 24.0, unit="dB", step=0.1, help="Gain before everything else."
    )
    polarity_inverted: bool = switch(False, help="Turn every sample upside down.")
    inverted_channels: tuple[int, ...] = Field(
        (),
        description="Turn these channels upside down, counted from 1.",
        json_schema_extra={"role": "channels"},
    )
    swapped: bool = switch(False, help="Left to the right and right to the left.", channels=2)
    input_as: Literal["left_right", "mid_side"] = choice(
        "left_right", help="What the two channels carry.", channels=2
    )
    width: float = parameter(
        1.0,
        0.0,
        4.0,
        unit="",
        step=0.01,
        help="0 mono, 1 untouched, 2 side doubled, and beyond.",
        channels=2,
    )
    mono: bool = switch(False, help="Both sides carry the mid.", channels=2)
    mid_position_deg: float = parameter(
        0.0, -30.0, 30.0, unit="°", step=0.5, help="Where the mid stands.", channels=2
    )
    side_position_deg: float = parameter(
        0.0, -30.0, 30.0, unit="°", step=0.5, help="Where the side leans.", channels=2
    )
    left_position_deg: float = parameter(
        30.0,
        -30.0,
        30.0,
        unit="°",
        step=0.5,
        help="Where the left channel stands; 30 is fully left.",
        channels=2,
    )
    right_position_deg: float = parameter(
        -30.0,
        -30.0,
        30.0,
        unit="°",
        step=0.5,
        help="Where the right channel stands; -30 is fully right.",
        channels=2,
    )
    balance: float = parameter(
        0.0,
        -100.0,
        100.0,
        unit="%",
        step=1.0,
        help="100 leaves the left alone, -100 the right.",
        channels=2,
    )
    low_cut: bool = switch(False, help="Take away what lies below the corner.")
    low_cut_hz: float = parameter(
        80.0,
        10.0,
        2000.0,
        unit="Hz",
        step=1.0,
        scale="log",
        help="Corner of the low-cut, 3 dB down.",
    )
    low_cut_slope_db: Slope = choice(
        "12", help="Slope of the low-cut in dB per octave.", unit="dB/oct"
    )
    delay_ms: float = parameter(
        0.0,
        -200.0,
        _LATEST_MS,
        unit="ms",
        step=0.02,
        help=(
            "Later by this much, or earlier, to a part of a sample; samples (smp) and "
            "centimetres (cm) may be typed."
        ),
    )
    output_as: Literal["left_right", "mid_side"] = choice(
        "left_right", help="What is handed on.", channels=2
    )
    output_gain_db: float = parameter(
        0.0, -60.0, 24.0, unit="dB", step=0.1, help="Gain after everything else."
    )

    def start(self, channels: Channels, rate_hz: int, latency: int) -> Running:
        return _Basics(channels.count, rate_hz, latency)

    def tail_s(self, rate_hz: int, fall_db: float = 60.0) -> float:
        rings = ring_s(self.cut(rate_hz), rate_hz, fall_db) if self.low_cut else 0.0
        return max(self.delay_ms, 0.0) / 1000.0 + 2.0 * HALF / rate_hz + rings

    def latency_samples(self, rate_hz: int) -> int:
        """To be early, everything else waits; to be late by part of a sample, a little too.

        A backward delay is a latency that is made up for and not used.
        """
        late = whole_if_near(self.delay_ms * 1e-3 * rate_hz)
        return max(int(np.ceil((0.0 if late.is_integer() else HALF) - late)), 0)

    def response(
        self, frequencies_hz: NDArray[np.float64], rate_hz: int
    ) -> NDArray[np.complex128] | None:
        return response(self.cut(rate_hz), frequencies_hz, rate_hz) if self.low_cut else None

    def cut(self, rate_hz: int) -> Sections:
        """The low-cut as sections; one that is off passes everything."""
        sections = low_cut(self.low_cut_hz, int(self.low_cut_slope_db), rate_hz)
        return sections if self.low_cut else passing(sections)

    def delay_and_polarity(self, channel: int = 1) -> tuple[float, int]:
        inverted = self.polarity_inverted != (channel in self.inverted_channels)
        return self.delay_ms, -1 if inverted else 1

    def matrix(self, channels: int) -> Matrix:
        """All that these settings do at once, (channels, channels)."""
        signs = np.ones(channels)
        signs[[number - 1 for number in self.inverted_channels if 1 <= number <= channels]] = -1.0
        steps = [np.diag(signs * (-1.0 if self.polarity_inverted else 1.0))]
        if channels == 2:
            if self.input_as == "mid_side":
                steps.insert(0, _LEFT_RIGHT)
            if self.swapped:
                steps.append(np.eye(2)[::-1])
            steps += [self._mid_side(), self._sides(), np.diag(self._balance())]
            if self.output_as == "mid_side":
                steps.append(_MID_SIDE)
        total = np.eye(channels) * 10.0 ** ((self.input_gain_db + self.output_gain_db) / 20.0)
        for step in steps:
            total = step @ total
        result: Matrix = total
        return result

    def _mid_side(self) -> Matrix:
        """Width scales the side; mid and side are then placed apart, with equal power."""
        width = 0.0 if self.mono else self.width
        mid, side = _pair(self.mid_position_deg), _pair(self.side_position_deg)
        result: Matrix = (
            np.sqrt(2.0) * np.stack([mid, width * side * (1.0, -1.0)], axis=1) @ _MID_SIDE
        )
        return result

    def _sides(self) -> Matrix:
        return np.stack([_pair(self.left_position_deg), _pair(self.right_position_deg)], axis=1)

    def _balance(self) -> Matrix:
        """The far side falls along a quarter cosine.

        The near side is left as it is (common practice).
        """
        far = np.cos(np.pi / 2 * abs(self.balance) / 100.0) if abs(self.balance) < 100.0 else 0.0
        return np.array([1.0, far] if self.balance > 0 else [far, 1.0])


def whole_if_near(samples: float) -> float:
    """A delay in samples; one within a thousandth of a whole number is that number."""
    return float(round(samples)) if abs(samples - round(samples)) < 1e-3 else samples


def _pair(position_deg: float) -> Matrix:
    """Equal-power gains, left and right, from -30 (right) to 30 (left) degrees."""
    turn = np.pi / 4 * (1.0 - position_deg / 30.0)
    gains = np.array([np.cos(turn), np.sin(turn)])
    return np.where(np.abs(gains) < 1e-12, 0.0, gains)


class _Basics:
    """One matrix, one low-cut and one delay, each with its memory."""

    def __init__(self, channels: int, rate_hz: int, latency: int) -> None:
        self._channels = channels
        self._rate_hz = rate_hz
        self._latency = latency
        self._cut = Cascade(channels)
        self._delay = FractionalDelay(channels, _LATEST_MS * 1e-3 * rate_hz + latency)
        self._matrix: Memo[Basics, Matrix] = Memo(lambda one: one.matrix(channels))
        self._delays: Memo[Basics, float] = Memo(self._late)
        self._still: Memo[Matrix, Block | None] = Memo(self._unless_untouched)

    def process(self, block: Block, parameters: Motion[Basics], at: int) -> Block:
        block = self._delay.process(block, parameters.map(self._delays))
        block = self._through_matrix(block, parameters)
        return self._cut.process(block, self._cuts(parameters))

    def _through_matrix(self, block: Block, parameters: Motion[Basics]) -> Block:
        matrices = parameters.map(self._matrix)
        if matrices.moves:
            return mixed(block, *matrices.arrays())
        matrix = self._still(matrices.values[0])
        return block if matrix is None else matrix @ block

    def _unless_untouched(self, matrix: Matrix) -> Block | None:
        """A matrix in single precision; None where it leaves everything as it is."""
        untouched = np.allclose(matrix, np.eye(self._channels), rtol=0.0, atol=1e-7)
        return None if untouched else matrix.astype(np.float32)

    def _cuts(self, parameters: Motion[Basics]) -> Motion[tuple[Sections, ...]]:
        if not any(one.low_cut for one in parameters.values):
            return Motion.still(())
        return parameters.map(lambda one: (one.cut(self._rate_hz),))

    def _late(self, one: Basics) -> float:
        """Its delay in samples, with the latency it was started with."""
        return whole_if_near(one.delay_ms * 1e-3 * self._rate_hz) + self._latency
