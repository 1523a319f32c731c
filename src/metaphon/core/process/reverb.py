"""What all reverbs share: when the room answers, its tone, its width and its level."""

from collections.abc import Callable, Mapping
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from metaphon.core.dsp.block import Block
from metaphon.core.dsp.filter_shapes import high_cut, low_cut
from metaphon.core.dsp.fractional_delay import FractionalDelay
from metaphon.core.dsp.motion import Memo, Motion, mixed
from metaphon.core.dsp.sections import Cascade, Sections, ring_s
from metaphon.core.process.channel_shares import own_channels
from metaphon.core.process.processor import Channels, Processor, choice, parameter, switch

Note = Literal["free", "1/64", "1/32", "1/16T", "1/16", "1/8T", "1/8", "1/4"]
_OF_A_QUARTER: dict[str, float] = {
    "1/64": 1 / 16,
    "1/32": 1 / 8,
    "1/16T": 1 / 6,
    "1/16": 1 / 4,
    "1/8T": 1 / 3,
    "1/8": 1 / 2,
    "1/4": 1.0,
}
LONGEST_PREDELAY_MS = 1000.0
NO_LOW_CUT_HZ, NO_HIGH_CUT_HZ = 20.0, 20000.0
FALL = 3.0  # powers of ten that an amplitude falls in a decay time


class Reverb(Processor):
    """A room of any kind: its answer delayed, cut, narrowed and levelled."""

    is_reverb: ClassVar[bool] = True
    groups: ClassVar[tuple[str, ...]] = ("Space", "Decay", "Reflections", "Hold", "Tone", "Out")

    predelay_ms: float = parameter(
        20.0,
        0.0,
        LONGEST_PREDELAY_MS,
        unit="ms",
        step=1.0,
        group="Space",
        help="Time before the room answers.",
    )
    predelay_note: Note = choice(
        "free", group="Space", help="Time before the room answers, by the tempo of the mix."
    )
    low_cut_hz: float = parameter(
        NO_LOW_CUT_HZ,
        NO_LOW_CUT_HZ,
        1000.0,
        unit="Hz",
        step=1.0,
        scale="log",
        group="Tone",
        help="What lies below is taken out of the room, 12 dB per octave; 20 takes nothing.",
    )
    high_cut_hz: float = parameter(
        NO_HIGH_CUT_HZ,
        1000.0,
        NO_HIGH_CUT_HZ,
        unit="Hz",
        step=10.0,
        scale="log",
        group="Tone",
        help="What lies above is taken out of the room, 12 dB per octave; 20000 takes nothing.",
    )
    width: float = parameter(
        1.0,
        0.0,
        1.0,
        unit="",
        step=0.01,
        group="Out",
        help="0 the same in every channel, 1 as it is; as loud at any width.",
    )
    wet_db: float = parameter(
        0.0, -60.0, 12.0, unit="dB", step=0.1, group="Out", help="Level of the room."
    )
    wet_only: bool = switch(
        True, group="Out", help="Give the room alone, as a return should; off adds the dry sound."
    )
    mix: float = parameter(
        0.5,
        0.0,
        1.0,
        unit="",
        step=0.01,
        group="Out",
        help="0 dry, 0.5 both in full, 1 the room; counts where the dry sound is let through.",
    )

    two_sides: bool = switch(
        False, group="Out", help="Give a mono recording a room of two sides; else it stays mono."
    )
    linked: str = Field(
        "",
        max_length=64,
        description="Reverbs of one kind with the same word here are set together.",
        json_schema_extra={"role": "link"},
    )

    def around_s(self, rate_hz: int, fall_db: float) -> float:
        """How long what stands round the room delays its tail: pre-delay and cuts, in seconds."""
        cuts = sum(ring_s(sections, rate_hz, fall_db) for sections in self.cuts(rate_hz))
        return self.predelay_ms / 1000.0 + cuts

    @property
    def needs_two_sides(self) -> bool:
        return self.two_sides

    @property
    def link(self) -> str:
        return self.linked

    @property
    def passes_dry(self) -> bool:
        return not self.wet_only and self.mix < 1.0

    @property
    def room_alone(self) -> Processor:
        return self.model_copy(update={"wet_only": True})

    @property
    def dry(self) -> float:
        """How much of the sound as it came is heard, an amplitude."""
        return 0.0 if self.wet_only else min(1.0, 2.0 * (1.0 - self.mix))

    @property
    def wet(self) -> float:
        """How much of the room is heard, an amplitude."""
        share = 1.0 if self.wet_only else min(1.0, 2.0 * self.mix)
        return float(share * 10.0 ** (self.wet_db / 20.0))

    def cuts(self, rate_hz: int) -> tuple[Sections, Sections]:
        """What takes low and high frequencies out of the room: no sections where nothing is."""
        low = low_cut(self.low_cut_hz, 12, rate_hz)
        high = high_cut(min(self.high_cut_hz, 0.45 * rate_hz), 12, rate_hz)
        return (
            low[:0] if self.low_cut_hz <= NO_LOW_CUT_HZ else low,
            high[:0] if self.high_cut_hz >= NO_HIGH_CUT_HZ else high,
        )

    @property
    def decided_by(self) -> Mapping[str, str]:
        return {} if self.predelay_note == "free" else {"predelay_ms": "predelay_note"}

    def at_tempo(self, tempo_bpm: float) -> Processor:
        """The same with its pre-delay as long as the note says at a tempo, in quarters a minute."""
        if self.predelay_note == "free":
            return self
        long_ms = 60000.0 / tempo_bpm * _OF_A_QUARTER[self.predelay_note]
        return self.model_copy(update={"predelay_ms": min(long_ms, LONGEST_PREDELAY_MS)})


class RoomAround:
    """The work that all reverbs share, around what makes the room itself.

    Parameters
    ----------
    channels, rate_hz
        Of the sound.
    """

    def __init__(self, channels: Channels, rate_hz: int) -> None:
        self._rate_hz = rate_hz
        self._channels = channels
        self._predelay = FractionalDelay(channels.count, LONGEST_PREDELAY_MS * 1e-3 * rate_hz)
        self._cascade = Cascade(channels.count)
        self._cuts: Memo[Reverb, tuple[Sections, Sections]] = Memo(lambda one: one.cuts(rate_hz))

    def process(
        self, block: Block, parameters: Motion[Any], room: Callable[[Block], Block]
    ) -> Block:
        """Take and give (channels, frames); `room` is what makes the room of the delayed sound."""
        source = self._predelay.process(
            block,
            parameters.map(lambda one: float(round(one.predelay_ms * 1e-3 * self._rate_hz))),
        )
        wet = self._cascade.process(room(np.ascontiguousarray(source)), parameters.map(self._cuts))
        width = parameters.map(lambda one: one.width)
        if width.moves or width.values[0] != 1.0:
            wet = mixed(wet, *width.map(lambda one: narrowing(self._channels, one)).arrays())
        wet = _at_level(wet, parameters.map(lambda one: one.wet))
        dry = parameters.map(lambda one: one.dry)
        if not dry.moves and dry.values[0] == 0.0:
            return wet
        return wet + _at_level(block, dry)


def _at_level(block: Block, level: Motion[float]) -> Block:
    if level.moves:
        moved: Block = block * level.line(block.shape[1]).astype(np.float32)
        return moved
    return block if level.values[0] == 1.0 else block * np.float32(level.values[0])


def narrowing(channels: Channels, width: float) -> NDArray[np.float64]:
    """What makes channels that have nothing in common more alike, (channels, channels).

    0 gives all the same, 1 leaves each as it is; each keeps its energy. In a scene the directions
    go and the omni stays.
    """
    if channels.order is not None:
        return np.diag([1.0, *[width] * (channels.count - 1)])
    own = own_channels(channels)
    count = max(own.sum(), 1.0)
    same = np.outer(own, own) * (1.0 - width) / np.sqrt(count)
    matrix = np.eye(channels.count) * np.where(own > 0.0, width, 1.0) + same
    result: NDArray[np.float64] = matrix / np.linalg.norm(matrix, axis=1, keepdims=True)
    return result
