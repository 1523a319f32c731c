"""Width out of a mono sound, which is gone again where both sides are added up.

What is added to the left is taken from the right, sample by sample, so their sum is what it was.
"""

from functools import lru_cache
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from metaphon.core.dsp.block import Block
from metaphon.core.dsp.convolution import FilterWithMemory
from metaphon.core.dsp.delay_line import DelayLine
from metaphon.core.dsp.filter_shapes import high_cut, low_cut
from metaphon.core.dsp.motion import Memo, Motion
from metaphon.core.dsp.sections import Cascade, Sections, passing, response, ring_s
from metaphon.core.process.processor import Channels, Processor, Running, choice, parameter, switch

_SLOPE_DB = 24  # of the corners beyond which it stays narrow
_WHOLE_HZ = 20000.0  # a corner that cuts nothing
_BEGINS_MS = 1.5  # before that the added side has nothing, so that neither side is favoured
# delays of the all-passes in ms, and their coefficient: no common factors (Schroeder 1962)
_CHARACTERS = {
    "dense": ((1.13, 1.87, 2.71, 3.97, 5.39), 0.55),
    "open": ((7.31, 11.9, 17.3), 0.5),
}
_LONGEST_MS = {"dense": 60.0, "open": 160.0}


class Widener(Processor):
    """A side signal unlike the middle, of as much as the wanted correlation asks for.

    For stereo; anything else passes untouched.
    """

    title: ClassVar[str] = "Widener"
    starting_points: ClassVar[dict[str, dict[str, Any]]] = {
        "Subtle": {"correlation": 0.7, "bass_hz": 200, "character": "dense"},
        "Two players": {"correlation": 0.0, "bass_hz": 120, "character": "dense"},
        "Room": {"correlation": 0.2, "bass_hz": 150, "character": "open"},
    }

    for_two_sides: ClassVar[bool] = True
    begins_with: ClassVar[dict[str, Any]] = {"hold_loudness": True}

    kind: Literal["widener"] = "widener"
    correlation: float = parameter(
        0.5,
        -0.5,
        1.0,
        unit="",
        step=0.01,
        help="That of a mono sound once it is widened: 1 untouched, 0 like two performances.",
    )
    bass_hz: float = parameter(
        120.0, 20.0, 1000.0, unit="Hz", step=1.0, scale="log", help="Below this it stays narrow."
    )
    treble_hz: float = parameter(
        20000.0,
        1000.0,
        20000.0,
        unit="Hz",
        step=10.0,
        scale="log",
        help="Above this it stays narrow; 20 kHz widens all.",
    )
    character: Literal["dense", "open"] = choice(
        "dense", help="Dense colours least; open breathes like a room."
    )
    hold_loudness: bool = switch(
        False, help="As loud in stereo as before; in mono it is softer then by as much."
    )

    @property
    def needs_two_sides(self) -> bool:
        return True

    def start(self, channels: Channels, rate_hz: int, latency: int) -> Running:
        return _Widener(channels.count, rate_hz, latency)

    def tail_s(self, rate_hz: int, fall_db: float = 60.0) -> float:
        if self.correlation >= 1.0:
            return 0.0
        cuts = sum(ring_s(sections, rate_hz, fall_db) for sections in self.band(rate_hz))
        return _LONGEST_MS[self.character] / 1000.0 + cuts

    def band(self, rate_hz: int) -> tuple[Sections, Sections]:
        """What the added side goes through: the low-cut, and the high-cut or what passes all."""
        above = high_cut(min(self.treble_hz, 0.45 * rate_hz), _SLOPE_DB, rate_hz)
        all_of_it = self.treble_hz >= _WHOLE_HZ
        return low_cut(self.bass_hz, _SLOPE_DB, rate_hz), passing(above) if all_of_it else above

    @property
    def side(self) -> float:
        """The amplitude of the added side: its power over that of the middle is (1 - c) / (1 + c).

        Source: the correlation of M + S and M - S where M and S have nothing in common.
        """
        result: float = np.sqrt((1.0 - self.correlation) / (1.0 + self.correlation))
        return result

    @property
    def level(self) -> float:
        """The amplitude of everything: 1, or what takes back the power that the side adds."""
        result: float = 1.0 / np.sqrt(1.0 + self.side**2) if self.hold_loudness else 1.0
        return result

    def pair_powers(
        self, powers: NDArray[np.float64], hertz: NDArray[np.float64], rate_hz: int
    ) -> NDArray[np.float64]:
        """What is added has nothing in common with the middle, and its power within the corners."""
        low, high = (response(sections, hertz, rate_hz) for sections in self.band(rate_hz))
        middle = powers.sum(axis=(-2, -1)) / 4.0 * np.abs(low * high) ** 2
        added = self.side**2 * middle[:, None, None] * np.array([[1.0, -1.0], [-1.0, 1.0]])
        return np.asarray(self.level**2 * (powers + added))

    def remark(self, rate_hz: int) -> str:
        if not self.hold_loudness or self.correlation >= 1.0:
            return ""
        return f"In mono it is {-20.0 * np.log10(self.level):.1f} dB softer than without it."


@lru_cache(maxsize=8)
def side_taps(character: str, rate_hz: int) -> NDArray[np.float64]:
    """What the middle is turned into: all-passes in a row, so that no frequency is favoured.

    Source: M. R. Schroeder, Natural sounding artificial reverberation, JAES 10(3), 1962. Their
    energy is 1, and they begin a little after the sound itself.
    """
    delays, coefficient = _CHARACTERS[character]
    taps = np.zeros(round(_LONGEST_MS[character] * rate_hz / 1000.0))
    taps[round(_BEGINS_MS * rate_hz / 1000.0)] = 1.0
    for delay_ms in delays:
        delay = round(delay_ms * rate_hz / 1000.0)
        out = np.empty_like(taps)
        for n in range(len(taps)):
            before, fed_back = (taps[n - delay], out[n - delay]) if n >= delay else (0.0, 0.0)
            out[n] = -coefficient * taps[n] + before + coefficient * fed_back
        taps = out
    taps *= 1.0 / np.sqrt(np.sum(taps**2))
    taps.flags.writeable = False
    return taps


class _Widener:
    def __init__(self, channels: int, rate_hz: int, latency: int) -> None:
        self._stereo = channels == 2
        self._rate_hz = rate_hz
        self._late = DelayLine(channels, latency)
        self._side = FilterWithMemory(1)
        self._cut = Cascade(1)
        self._band: Memo[Widener, tuple[Sections, Sections]] = Memo(lambda one: one.band(rate_hz))

    def process(self, block: Block, parameters: Motion[Widener], at: int) -> Block:
        block = self._late.process(block)
        if not self._stereo:
            return block
        taps = parameters.map(lambda one: side_taps(one.character, self._rate_hz))
        middle = 0.5 * (block[:1] + block[1:])
        side = self._side.process(middle, taps)
        side = self._cut.process(side, parameters.map(self._band))
        added = side[0] * parameters.map(lambda one: one.side).line(block.shape[1])
        level = parameters.map(lambda one: one.level).line(block.shape[1])
        out = np.stack([(block[0] + added) * level, (block[1] - added) * level])
        return out.astype(np.float32)
