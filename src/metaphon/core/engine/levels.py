"""How loud every strip is where it leaves its fader, and whether its sides agree."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from metaphon.core.dsp.block import Block
from metaphon.core.engine.automation import GRID_FRAMES
from metaphon.core.engine.hands import Hands
from metaphon.core.engine.plan import Plan
from metaphon.core.engine.render import StripRun, signals_of
from metaphon.core.measure.correlation import correlation
from metaphon.core.measure.peaks import decibels
from metaphon.core.measure.powers import sums_of_products

LONGEST_S = 120.0
_SILENCE = 1e-6  # -120 dBFS: quieter stretches do not count, whatever a filter left in them
_STRETCH = 32 * GRID_FRAMES


@dataclass(frozen=True)
class Level:
    """Peak and root mean square in dBFS, of the loudest channel while it sounds.

    Correlation of a stereo strip.

    None for silence.
    """

    peak_dbfs: float | None
    rms_dbfs: float | None
    correlation: float | None


class StripMeters:
    """Measures every strip of a plan over the first LONGEST_S of the mix while it is rendered."""

    def __init__(self, plan: Plan) -> None:
        self._last = round(LONGEST_S * plan.rate_hz)
        self._meters = [(strip.id, _Meter(strip.channels)) for strip in plan.strips]

    def add(self, strips: Sequence[StripRun], at: int) -> None:
        """Take what the strips last gave, in a block that begins at a frame of the mix."""
        if at >= self._last:
            return
        for strip, (_, meter) in zip(strips, self._meters, strict=True):
            if strip.given is not None:
                for first in range(0, strip.given.shape[1], _STRETCH):
                    meter.add(strip.given[:, first : first + _STRETCH])

    def finish(self) -> dict[str, Level]:
        """The level of every strip, by id."""
        return {strip_id: meter.finish() for strip_id, meter in self._meters}


def levels(plan: Plan) -> dict[str, Level]:
    """The level of every strip that is heard, by id, over the first LONGEST_S of the mix."""
    meters = StripMeters(plan)
    last = min(plan.frames, round(LONGEST_S * plan.rate_hz))
    with Hands() as hands:
        for _ in signals_of(plan, hands, (0, last), 0, on_strips=(meters.add,)):
            pass
    return meters.finish()


class _Meter:
    def __init__(self, channels: int) -> None:
        self._peak = 0.0
        self._power = np.zeros(channels)
        self._cross = 0.0
        self._frames = 0

    def add(self, block: Block) -> None:
        peak = float(max(block.max(), -block.min()))
        if peak < _SILENCE:
            return
        self._peak = max(self._peak, peak)
        [sums] = sums_of_products(block, block.shape[1])
        self._power += sums[:-1]
        self._cross += sums[-1]
        self._frames += block.shape[1]

    def finish(self) -> Level:
        rms = decibels(float(np.sqrt(self._power.max() / max(self._frames, 1))))
        both = (
            correlation(float(self._power[0]), float(self._power[1]), self._cross)
            if len(self._power) == 2
            else None
        )
        return Level(decibels(self._peak), rms, both)
