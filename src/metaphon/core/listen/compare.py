"""Comparing A with B: at one loudness, and blind."""

import random
from dataclasses import dataclass, field
from math import comb

import numpy as np

from metaphon.core.dsp.block import Block
from metaphon.core.measure.loudness import LoudnessMeter

_MOST_GAIN_DB = 24.0
_SETTLED_S = 0.4


class Matching:
    """Brings two sounds to one loudness.

    The louder is turned down by the difference of their means so far.
    """

    def __init__(self, rate_hz: int) -> None:
        self._meters = {side: LoudnessMeter(np.ones(2), rate_hz) for side in "ab"}

    def add(self, side: str, ears: Block) -> None:
        """Take the next stretch of a side, (channels, frames)."""
        pair = ears[:2] if len(ears) > 1 else np.repeat(ears, 2, axis=0)
        self._meters[side].add(np.ascontiguousarray(pair))

    @property
    def gains_db(self) -> dict[str, float]:
        """What each side is turned down by, 0 or less.

        0 for both until there is enough to judge by.
        """
        loudness = {side: meter.integrated_lufs for side, meter in self._meters.items()}
        one, other = loudness["a"], loudness["b"]
        if one is None or other is None:
            return {"a": 0.0, "b": 0.0}
        quieter = min(one, other)
        return {"a": max(quieter - one, -_MOST_GAIN_DB), "b": max(quieter - other, -_MOST_GAIN_DB)}


@dataclass
class Blind:
    """A blind comparison: X is A or B, and the listener says which.

    Trials are independent and even.
    """

    seed: int | None = None
    trials: int = 0
    right: int = 0
    x_is: str = field(init=False)

    def __post_init__(self) -> None:
        self._random = random.Random(self.seed) if self.seed is not None else random.SystemRandom()
        self.x_is = self._random.choice("ab")

    def answer(self, side: str) -> bool:
        """Take an answer, say whether it was right, and choose the next X."""
        was_right = side == self.x_is
        self.trials += 1
        self.right += was_right
        self.x_is = self._random.choice("ab")
        return was_right

    @property
    def chance(self) -> float:
        """How likely guessing would do as well or better.

        The upper tail of the binomial distribution at 1/2.
        """
        ways = sum(comb(self.trials, k) for k in range(self.right, self.trials + 1))
        return float(ways / 2**self.trials)
