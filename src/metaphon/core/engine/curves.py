"""Values over time, on one grid: exact at its points, straight in between, whatever the block size."""

from collections.abc import Callable, Hashable
from dataclasses import dataclass, field
from functools import cached_property
from typing import Generic, TypeVar

import numpy as np
from numpy.typing import NDArray

from metaphon.core.process.processor import Block
from metaphon.core.scene.lanes import Columns, columns_of, interpolated, is_turning
from metaphon.core.scene.mix import Automation, Breakpoint

GRID_FRAMES = 1024
RAMP = (np.arange(GRID_FRAMES, dtype=np.float32) / GRID_FRAMES).astype(np.float32)


@dataclass(frozen=True)
class Curve:
    """One parameter over time; constant where it is not automated. Angles that turn go the shorter way."""

    points: tuple[Breakpoint, ...]
    turns: bool = False

    @classmethod
    def of(cls, value: float, lane: Automation | None = None) -> "Curve":
        if lane is None:
            return cls((Breakpoint(t_s=0.0, value=value),))
        return cls(lane.points, is_turning(lane.target))

    @property
    def values(self) -> tuple[float, ...]:
        return tuple(point.value for point in self.points)

    @cached_property
    def moves(self) -> bool:
        return len(set(self.values)) > 1

    def at(self, times_s: NDArray[np.float64]) -> NDArray[np.float64]:
        if not self.moves:
            return np.full(len(times_s), self.points[0].value)
        return interpolated(self._columns, times_s)

    @cached_property
    def _columns(self) -> Columns:
        return columns_of(self.points, self.turns)


@dataclass(frozen=True)
class Gains:
    """A matrix of gains, (outputs, inputs), that may move in time.

    `at` gives (times, outputs, inputs); between grid points the gains run in straight lines, sample by
    sample, so nothing clicks. `key` tells two of them apart.
    """

    at: Callable[[NDArray[np.float64]], NDArray[np.float64]] = field(compare=False)
    moves: bool
    key: Hashable

    @classmethod
    def fixed(cls, matrix: NDArray[np.float64]) -> "Gains":
        key = (matrix.shape, matrix.tobytes())
        return cls(lambda times_s: np.broadcast_to(matrix, (len(times_s), *matrix.shape)), False, key)


T = TypeVar("T", bound=np.generic)
_BLOCKS_AHEAD = 12


class Ahead(Generic[T]):
    """Values at grid points, worked out for several blocks at once: asking costs more than answering."""

    def __init__(self, at: Callable[[NDArray[np.float64]], NDArray[T]], rate_hz: int) -> None:
        self._at = at
        self._rate_hz = rate_hz
        self._first = 0
        self._held: NDArray[T] | None = None

    def get(self, first: int, frames: int) -> NDArray[T]:
        """The values at the grid points of a block, its end included; time is the first axis."""
        steps = frames // GRID_FRAMES
        place = (first - self._first) // GRID_FRAMES
        if self._held is None or not 0 <= place <= len(self._held) - 1 - steps:
            self._first, place = first, 0
            self._held = self._at(grid_times(first, frames * _BLOCKS_AHEAD, self._rate_hz))
        return self._held[place : place + steps + 1]


class Mixer:
    """Applies gains to blocks that start on the grid."""

    def __init__(self, gains: Gains, rate_hz: int) -> None:
        self._fixed = None if gains.moves else gains.at(np.zeros(1))[0].astype(np.float32)
        self._ahead = Ahead(lambda times_s: gains.at(times_s).astype(np.float32), rate_hz)

    def apply(self, block: Block, first: int) -> Block:
        """Mix (inputs, frames) into (outputs, frames), where `first` is the block's place in the mix."""
        if self._fixed is not None:
            return self._fixed @ block
        matrices = self._ahead.get(first, block.shape[1])
        segments = block.reshape(block.shape[0], -1, GRID_FRAMES).transpose(1, 0, 2)
        rising = segments * RAMP
        mixed = matrices[:-1] @ (segments - rising) + matrices[1:] @ rising
        return mixed.transpose(1, 0, 2).reshape(mixed.shape[1], -1)


class Fader:
    """A level in dB over time, as one gain for all channels."""

    def __init__(self, level_db: Curve, rate_hz: int) -> None:
        self._level = level_db
        self._rate_hz = rate_hz
        self._fixed = None if level_db.moves else np.float32(amplitude(level_db.at(np.zeros(1)))[0])

    def apply(self, block: Block, first: int) -> Block:
        if self._fixed is not None:
            return block * self._fixed
        gains = amplitude(self._level.at(grid_times(first, block.shape[1], self._rate_hz))).astype(np.float32)
        return block * line(gains)


def line(values: NDArray, kind: type = np.float32) -> NDArray:
    """From values at grid points to one a frame, straight in between."""
    along: NDArray = RAMP.astype(kind)
    return (values[:-1, None] + (values[1:] - values[:-1])[:, None] * along).reshape(-1).astype(kind)


def amplitude(level_db: NDArray[np.float64]) -> NDArray[np.float64]:
    """dB as a gain; -120 dB and below is silence."""
    return np.where(level_db <= -120.0, 0.0, 10.0 ** (level_db / 20.0))


def grid_times(first: int, frames: int, rate_hz: int) -> NDArray[np.float64]:
    """The times of the grid points of a block, its end included."""
    return (first + np.arange(frames // GRID_FRAMES + 1) * GRID_FRAMES) / rate_hz
