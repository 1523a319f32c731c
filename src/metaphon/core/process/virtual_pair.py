"""A stereo pair of sources placed round a head: for headphones, or by level and time alone."""

from collections.abc import Callable
from functools import lru_cache
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from metaphon.core.dsp.block import Block
from metaphon.core.dsp.convolution import FilterWithMemory
from metaphon.core.dsp.delay_line import DelayLine
from metaphon.core.dsp.fractional_delay import HALF, FractionalDelay
from metaphon.core.dsp.motion import PIECE, STEP_S, Motion, mixed
from metaphon.core.process.processor import Channels, Processor, Running, choice, parameter, switch
from metaphon.core.spatial.ears import MEASURED_M, ear_delay_s, for_each_ear
from metaphon.core.spatial.head import SHIPPED, TAPS_S, load_head

_LATE_S = 0.001  # of every way, so that the far ear can be later and the near one earlier
_FINEST_DEG = 0.05


class VirtualPair(Processor):
    """The left and the right channel as two sources, each at an angle, heard by two ears.

    For stereo; anything else passes untouched.
    """

    title: ClassVar[str] = "Virtual pair"

    for_two_sides: ClassVar[bool] = True

    kind: Literal["virtual_pair"] = "virtual_pair"
    method: Literal["binaural", "level_time"] = choice(
        "binaural", help="A measured head, for headphones, or level and time, for loudspeakers."
    )
    left_deg: float = parameter(
        30.0, -180.0, 180.0, unit="°", step=1.0, help="Where the left stands; left is positive."
    )
    right_deg: float = parameter(
        -30.0, -180.0, 180.0, unit="°", step=1.0, help="Where the right stands; they may cross."
    )
    width: float = parameter(
        100.0, 0.0, 100.0, unit="%", step=1.0, help="0 is the mid at both places."
    )
    distance_m: float = parameter(
        MEASURED_M,
        0.2,
        20.0,
        unit="m",
        step=0.05,
        scale="log",
        help="Near is louder, most at the ear it is close to.",
    )
    ears_exchanged: bool = switch(False, help="What the left ear hears goes to the right.")

    @property
    def needs_two_sides(self) -> bool:
        return True

    def start(self, channels: Channels, rate_hz: int, latency: int) -> Running:
        return _VirtualPair(channels.count, rate_hz, latency)

    def tail_s(self, rate_hz: int, fall_db: float = 60.0) -> float:
        return TAPS_S if self.method == "binaural" else 2.0 * _LATE_S + 2.0 * HALF / rate_hz

    def latency_samples(self, rate_hz: int) -> int:
        return _late(rate_hz)

    def remark(self, rate_hz: int) -> str:
        if self.method == "binaural":
            return "For headphones: give it out in stereo, for a second head would colour it."
        return "For loudspeakers: in mono its two sides comb."

    def taps(self, channel: int, ear: int, rate_hz: int) -> NDArray[np.float64]:
        """What an ear hears of a channel by the measured head, (taps)."""
        angle = (self.left_deg, self.right_deg)[channel]
        return _ear_taps(round(angle / _FINEST_DEG), round(self.distance_m, 3), ear, rate_hz)

    def level_and_delay(self, channel: int, ear: int) -> tuple[float, float]:
        """Amplitude and delay in seconds of a channel at an ear, without a head.

        Levels of equal power by the sine of the angle (A. D. Blumlein 1931), delays of a sphere.
        """
        angle = (self.left_deg, self.right_deg)[channel]
        side = float(np.sin(np.radians(angle))) * (1.0 if ear == 0 else -1.0)
        level = float(np.sqrt((1.0 + side) / 2.0)) * MEASURED_M / self.distance_m
        return level, -0.5 * ear_delay_s(angle) * (1.0 if ear == 0 else -1.0)


def _late(rate_hz: int) -> int:
    return max(round(_LATE_S * rate_hz), int(np.ceil(load_head(SHIPPED, rate_hz).mean_delay)))


@lru_cache(maxsize=4096)
def _ear_taps(angle: int, distance_m: float, ear: int, rate_hz: int) -> NDArray[np.float64]:
    head = load_head(SHIPPED, rate_hz)
    vectors, levels = for_each_ear(angle * _FINEST_DEG, distance_m)
    taps = head.responses(vectors[ear : ear + 1])[0, ear].astype(float) * levels[ear]
    # as late as all ways are, whatever the head
    found = np.concatenate([np.zeros(_late(rate_hz) - round(head.mean_delay)), taps])
    found.flags.writeable = False
    return found


class _VirtualPair:
    def __init__(self, channels: int, rate_hz: int, latency: int) -> None:
        self._stereo = channels == 2
        self._rate_hz = rate_hz
        self._late = DelayLine(channels, latency)
        self._wait = DelayLine(2, latency - _late(rate_hz))
        self._before = np.zeros((2, PIECE), dtype=np.float32)
        ways = [(channel, ear) for channel in range(2) for ear in range(2)]
        self._heads = {way: FilterWithMemory(1) for way in ways}
        self._delays = {way: FractionalDelay(1, 2.0 * _late(rate_hz)) for way in ways}

    def process(self, block: Block, parameters: Motion[VirtualPair], at: int) -> Block:
        if not self._stereo:
            return self._late.process(block)
        block = self._wait.process(block)
        block = _through(block, parameters.map(_narrowed))
        share = parameters.map(lambda one: float(one.method == "binaural"))
        ways = (self._by_level, self._by_head)
        if share.moves:
            # the way that is passed over to is shown what went before, which it was not given
            ways[not share.values[0]](self._before, Motion.still(parameters.values[0]))
            line = share.line(block.shape[1]).astype(np.float32)
            ears = ways[1](block, parameters) * line + ways[0](block, parameters) * (1.0 - line)
        else:
            ears = ways[bool(share.values[0])](block, parameters)
        self._before = block[:, -PIECE:]
        return _through(ears, parameters.map(_exchange))

    def _by_head(self, block: Block, parameters: Motion[VirtualPair]) -> Block:
        few = parameters.thinned(round(STEP_S * self._rate_hz) + 2)

        def way(channel: int, ear: int) -> Block:
            taps = few.map(lambda one: one.taps(channel, ear, self._rate_hz))
            return self._heads[channel, ear].process(block[channel : channel + 1], taps)

        return _both_ears(way)

    def _by_level(self, block: Block, parameters: Motion[VirtualPair]) -> Block:
        late = _late(self._rate_hz)

        def way(channel: int, ear: int) -> Block:
            found = parameters.map(lambda one: np.array(one.level_and_delay(channel, ear)))
            delay = found.map(lambda one: float(one[1]) * self._rate_hz + late)
            level = found.map(lambda one: float(one[0])).line(block.shape[1])
            own = self._delays[channel, ear].process(block[channel : channel + 1], delay)
            return (own * level).astype(np.float32)

        return _both_ears(way)


def _both_ears(way: Callable[[int, int], Block]) -> Block:
    return np.concatenate([way(0, ear) + way(1, ear) for ear in range(2)])


def _narrowed(one: VirtualPair) -> NDArray[np.float64]:
    side = one.width / 100.0
    return 0.5 * np.array([[1.0 + side, 1.0 - side], [1.0 - side, 1.0 + side]])


def _exchange(one: VirtualPair) -> NDArray[np.float64]:
    return np.eye(2)[::-1] if one.ears_exchanged else np.eye(2)


def _through(block: Block, matrices: Motion[Any]) -> Block:
    if matrices.moves:
        return mixed(block, *matrices.arrays())
    moved: Block = matrices.values[0].astype(np.float32) @ block
    return moved
