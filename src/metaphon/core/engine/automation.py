"""Values over time, exact to the sample, whatever the block size.

A step, where a lane holds a value up to the next or has two at one time, takes 2 ms and has its
middle at its sample. What is costly to work out, such as the gains of a moving object, is worked
out at knots and runs straight in between: at every grid point, at both ends of every step, and
wherever else a straight line would be off.
"""

from bisect import bisect_left, bisect_right
from collections.abc import Callable, Hashable, Sequence
from dataclasses import dataclass, field
from functools import cached_property, lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from metaphon.core.document.breakpoints import Breakpoints
from metaphon.core.document.lanes import is_turning, values_at
from metaphon.core.document.mix import Automation
from metaphon.core.dsp.block import Block
from metaphon.core.dsp.motion import PIECE, STEP_S, add_mixed, add_still

GRID_FRAMES = PIECE  # blocks begin and end at multiples of this
_OFF = 0.02  # of a lane's range: a straight line between grid points that is off by more is broken

_FINEST = {
    **dict.fromkeys(("azimuth_deg", "elevation_deg", "roll_deg", "pair_deg"), 6.0),
    **dict.fromkeys(("x", "y", "z"), 0.06),
    "distance": 0.2,
}
_CLOSEST = 16  # frames between two looks

Times = NDArray[np.float64]
Frames = NDArray[np.int64]


@dataclass(frozen=True)
class Curve:
    """One parameter over time; constant where it is not automated.

    Angles that turn go the shorter way. Where a source is on its way, `finest` is the longest part
    of it that is heard as well along a straight line.
    """

    points: Breakpoints
    turns: bool = False
    finest: float | None = None  # how far one straight line between gains may lead

    @classmethod
    def of(cls, value: float, lane: Automation | None = None) -> "Curve":
        """A lane, or where there is none a value that stands still."""
        if lane is None:
            return cls(Breakpoints.still(value))
        return cls(lane.points, is_turning(lane.target), _FINEST.get(lane.target.split("/")[-1]))

    @property
    def values(self) -> NDArray[np.float64]:
        """The values of all breakpoints."""
        return self.points.values

    @cached_property
    def moves(self) -> bool:
        """Whether it takes more than one value."""
        return bool(np.any(self.values != self.values[0]))

    def at(self, times_s: Times) -> NDArray[np.float64]:
        """Its values at times in seconds; a step is sudden."""
        if not self.moves:
            return np.full(len(times_s), self.values[0])
        return values_at(self.points, times_s, self.turns)

    def moves_between(self, first_s: float, last_s: float) -> bool:
        """Whether it takes more than one value in a span of time."""
        if not self.moves:
            return False
        times = self.points.times_s
        begin = max(int(np.searchsorted(times, first_s, "right")) - 1, 0)
        some = self.values[begin : int(np.searchsorted(times, last_s, "left")) + 1]
        return bool(np.any(some != some[0]))

    def runs_straight(self, within_s: float) -> bool:
        """Whether one straight line leads along it for so long anywhere, but for its steps."""
        return self.finest is None or self._fastest * within_s <= self.finest

    @cached_property
    def _fastest(self) -> float:
        """The most it changes by in a second, steps left out; eased, its middle is the fastest."""
        values = self.points.turned if self.turns else self.values
        spans, curves = np.diff(self.points.times_s), self.points.curves[:-1]
        goes = (spans > 0.0) & (curves != 1)
        steeper = np.where(curves == 2, 1.5, 1.0)[goes]
        rates = np.abs(np.diff(values))[goes] * steeper / spans[goes]
        return float(rates.max(initial=0.0))

    def steps(self, rate_hz: int) -> Frames:
        """Where its steps begin and end, in frames of the mix, (steps, 2)."""
        return _steps(self.points, rate_hz)


@lru_cache(4096)
def _steps(points: Breakpoints, rate_hz: int) -> Frames:
    times, values, curves = points.times_s, points.values, points.curves
    sudden = (curves[:-1] == 1) | (np.diff(times) == 0.0)
    middles = times[1:][sudden & (np.diff(values) != 0.0)]
    if not len(middles):
        return np.zeros((0, 2), dtype=np.int64)
    apart = np.diff(middles, prepend=-np.inf, append=np.inf)
    half = np.minimum(STEP_S, np.minimum(apart[:-1], apart[1:])) / 2.0
    found = np.round(np.stack([middles - half, middles + half], axis=1) * rate_hz).astype(np.int64)
    return found[found[:, 1] > found[:, 0]]


@lru_cache(4096)
def _corners(points: Breakpoints, turns: bool, rate_hz: int, step: int) -> Frames:
    """The frames of breakpoints near which a straight line from grid point to grid point is off."""
    frames = np.unique(np.round(points.times_s * rate_hz).astype(np.int64))
    before = frames // step * step
    times = np.stack([before, frames, before + step]) / rate_hz
    low, here, high = values_at(points, times.reshape(-1), turns).reshape(3, -1)
    off = np.abs(low + (high - low) * (frames - before) / step - here)
    result: Frames = frames[off > _OFF * max(float(np.ptp(points.values)), 1e-12)]
    return result


def knots(
    curves: Sequence[Curve], first: int, frames: int, rate_hz: int, step: int = GRID_FRAMES
) -> Frames:
    """The frames of the mix at which curves are looked at, for straight lines in between.

    Parameters
    ----------
    curves
        What moves.
    first, frames
        Where the block begins in the mix and how long it is, in frames; multiples of `step`.
    rate_hz
        Of the mix.
    step
        Frames from grid point to grid point.

    Returns
    -------
        Rising frames, from the last at or before the block's beginning to the first at or after its
        end. They do not depend on where blocks begin.
    """
    last = first + frames
    grid = np.arange(first - step, last + 2 * step, step)
    moving = [curve for curve in curves if curve.moves]
    steps = [_within(curve.steps(rate_hz), first - step, last + step) for curve in moving]
    corners = [_corners(curve.points, curve.turns, rate_hz, step) for curve in moving]
    more = [some[(some > first - step) & (some < last + step)] for some in corners]
    found = _rising([grid, *more])
    for begin, end in (ends for some in steps for ends in some):
        found = found[(found <= begin) | (found >= end)]
    found = _rising([found, *(some.reshape(-1) for some in steps)])
    between = _between(moving, found, steps, rate_hz)
    if between.size:
        found = _rising([found, between])
    return found[_around(found, first, last)]


def _between(
    curves: Sequence[Curve], found: Frames, steps: Sequence[Frames], rate_hz: int
) -> Frames:
    """More frames where what moves goes too far from one to the next for one straight line.

    A step stays one: it is heard as a jump, not as a way.
    """
    longest_s = int(np.diff(found).max()) / rate_hz
    ways = [curve for curve in curves if not curve.runs_straight(longest_s)]
    if not ways:
        return found[:0]
    times = found / rate_hz
    far = np.zeros(len(found) - 1)
    for curve in ways:
        assert curve.finest is not None
        far = np.maximum(far, np.abs(np.diff(curve.at(times))) / curve.finest)
    for begin, _ in (ends for some in steps for ends in some):
        far[found[:-1] == begin] = 0.0
    lengths = np.diff(found)
    counts = np.minimum(np.ceil(far), lengths // _CLOSEST).astype(np.int64)
    parts = [
        found[place] + lengths[place] * np.arange(1, counts[place]) // counts[place]
        for place in np.flatnonzero(counts > 1)
    ]
    return np.concatenate(parts) if parts else found[:0]


def _rising(parts: Sequence[Frames]) -> Frames:
    """Frames in order, each once; the first part is so already."""
    some = [part for part in parts if part.size]
    if len(some) == 1:
        return some[0]
    found = np.sort(np.concatenate(some))
    return found[np.diff(found, prepend=found[0] - 1) > 0]


def _within(steps: Frames, first: int, last: int) -> Frames:
    return steps[(steps[:, 1] > first) & (steps[:, 0] < last)]


def _around(frames: Frames, first: int, last: int) -> slice:
    """The places from the last frame at or before `first` to the first at or after `last`."""
    # not by numpy, which lets other threads run for a question as small as this
    begin = bisect_right(frames, first) - 1
    return slice(begin, bisect_left(frames, last) + 1)


@dataclass(frozen=True)
class Gains:
    """A matrix of gains, (outputs, inputs), that may move in time with curves.

    `at` gives (times, outputs, inputs). `key` tells two of them apart.
    """

    at: Callable[[Times], NDArray[np.float64]] = field(compare=False)
    curves: tuple[Curve, ...] = field(compare=False)
    key: Hashable

    @property
    def moves(self) -> bool:
        """Whether they change in time."""
        return any(curve.moves for curve in self.curves)

    @cached_property
    def outputs(self) -> int:
        """How many outputs they lead to."""
        return int(self.at(np.zeros(1)).shape[1])

    @classmethod
    def fixed(cls, matrix: NDArray[np.float64]) -> "Gains":
        """Gains that never change."""
        key = (matrix.shape, matrix.tobytes())
        return cls(lambda times_s: np.broadcast_to(matrix, (len(times_s), *matrix.shape)), (), key)


_BLOCKS_AHEAD, _STEPS_AHEAD = 12, 96  # so many at least
_SPREAD = 12


class Ahead:
    """Arrays at knots, worked out for several blocks at once, as asking costs more than answering.

    Each begins with another number of blocks, so that not all of many ask again in the same one;
    those that go by the same curves do, as what they have in common is worked out once.
    """

    def __init__(
        self,
        at: Callable[[Times], NDArray[Any]],
        curves: Sequence[Curve],
        rate_hz: int,
        step: int = GRID_FRAMES,
    ) -> None:
        self._at = at
        self._curves = curves
        self._rate_hz = rate_hz
        self._step = step
        self._blocks = 1 + hash(tuple(id(curve.points) for curve in curves)) % _SPREAD
        self._span = (0, 0)
        self._frames: Frames = np.zeros(0, dtype=np.int64)
        self._held: NDArray[Any] = np.zeros(0)

    def get(self, first: int, frames: int) -> tuple[Frames, NDArray[Any]]:
        """The knots of a block, counted from its beginning, and the arrays there."""
        if not self._span[0] <= first <= first + frames <= self._span[1]:
            begin = first - first % self._step
            ahead = -(-(frames * self._blocks + first - begin) // self._step) * self._step
            self._frames = knots(self._curves, begin, ahead, self._rate_hz, self._step)
            self._held = self._at(self._frames / self._rate_hz)
            self._span = begin, begin + ahead
            self._blocks = max(_BLOCKS_AHEAD, _STEPS_AHEAD * self._step // frames)
        part = _around(self._frames, first, first + frames)
        return self._frames[part] - first, self._held[part]


class Mixer:
    """Applies gains to blocks that start on the grid."""

    def __init__(self, gains: Gains, rate_hz: int) -> None:
        begins = gains.at(np.zeros(1))[0].astype(np.float32)
        self._outputs = len(begins)
        self._fixed = None if gains.moves else np.ascontiguousarray(begins)
        self._ahead = Ahead(
            lambda times_s: gains.at(times_s).astype(np.float32), gains.curves, rate_hz
        )

    def apply(self, block: Block, first: int) -> Block:
        """Mix (inputs, frames) into (outputs, frames).

        Where `first` is the block's place in the mix.
        """
        out = np.zeros((self._outputs, block.shape[1]), dtype=np.float32)
        self.add(out, block, first)
        return out

    def add(self, out: Block, block: Block, first: int) -> None:
        """Add to (outputs, frames) what `apply` would give."""
        sound = np.ascontiguousarray(block)
        if self._fixed is not None:
            add_still(out, sound, self._fixed)
        else:
            add_mixed(out, sound, *self._ahead.get(first, block.shape[1]))


class Fader:
    """A level in dB over time, as one gain for all channels, exact at every sample."""

    def __init__(self, level_db: Curve, rate_hz: int) -> None:
        self._level = level_db
        self._rate_hz = rate_hz
        self._fixed = None if level_db.moves else np.float32(amplitude(level_db.at(np.zeros(1)))[0])

    def apply(self, block: Block, first: int) -> Block:
        """Apply it to a block that begins at a frame of the mix."""
        if self._fixed is not None:
            return block if self._fixed == 1.0 else block * self._fixed
        last = first + block.shape[1]
        span = first / self._rate_hz - STEP_S, last / self._rate_hz + STEP_S
        if not self._level.moves_between(*span):
            return block * np.float32(self._gains(np.array([first]))[0])
        gains = self._gains(np.arange(first, last))
        for begin, end in _within(self._level.steps(self._rate_hz), first, last):
            part = np.arange(max(begin, first), min(end, last))
            gains[part - first] = np.interp(part, (begin, end), self._gains(np.array([begin, end])))
        result: Block = block * gains.astype(np.float32)
        return result

    def _gains(self, frames: Frames) -> NDArray[np.float64]:
        return amplitude(self._level.at(frames / self._rate_hz))


def amplitude(level_db: NDArray[np.float64]) -> NDArray[np.float64]:
    """Levels in dB, of any shape, as amplitude gains; -120 dB and below is silence."""
    return np.where(level_db <= -120.0, 0.0, 10.0 ** (level_db / 20.0))
