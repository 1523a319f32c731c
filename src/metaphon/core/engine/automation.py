"""Values over time, on one grid.

Exact at its points, straight in between, whatever the block size.
"""

from collections.abc import Callable, Hashable
from dataclasses import dataclass, field
from functools import cached_property
from itertools import count
from typing import Any, Generic, TypeVar

import numba
import numpy as np
from numpy.typing import NDArray

from metaphon.core.document.breakpoints import Breakpoints
from metaphon.core.document.lanes import is_turning, values_at
from metaphon.core.document.mix import Automation
from metaphon.core.dsp.block import Block

GRID_FRAMES = 1024
RAMP = (np.arange(GRID_FRAMES, dtype=np.float32) / GRID_FRAMES).astype(np.float32)


@dataclass(frozen=True)
class Curve:
    """One parameter over time; constant where it is not automated.

    Angles that turn go the shorter way.
    """

    points: Breakpoints
    turns: bool = False

    @classmethod
    def of(cls, value: float, lane: Automation | None = None) -> "Curve":
        """A lane, or where there is none a value that stands still."""
        if lane is None:
            return cls(Breakpoints.still(value))
        return cls(lane.points, is_turning(lane.target))

    @property
    def values(self) -> NDArray[np.float64]:
        """The values of all breakpoints."""
        return self.points.values

    @cached_property
    def moves(self) -> bool:
        """Whether it takes more than one value."""
        return bool(np.any(self.values != self.values[0]))

    def at(self, times_s: NDArray[np.float64]) -> NDArray[np.float64]:
        """Its values at times in seconds."""
        if not self.moves:
            return np.full(len(times_s), self.values[0])
        return values_at(self.points, times_s, self.turns)


@dataclass(frozen=True)
class Gains:
    """A matrix of gains, (outputs, inputs), that may move in time.

    `at` gives (times, outputs, inputs); between grid points the gains run in straight lines, sample
    by sample, so nothing clicks. `key` tells two of them apart.
    """

    at: Callable[[NDArray[np.float64]], NDArray[np.float64]] = field(compare=False)
    moves: bool
    key: Hashable

    @classmethod
    def fixed(cls, matrix: NDArray[np.float64]) -> "Gains":
        """Gains that never change."""
        key = (matrix.shape, matrix.tobytes())
        return cls(
            lambda times_s: np.broadcast_to(matrix, (len(times_s), *matrix.shape)), False, key
        )


T = TypeVar("T", bound=np.generic)
_BLOCKS_AHEAD = 12
_turns = count()


class Ahead(Generic[T]):
    """Values every so many frames, worked out for several blocks at once.

    Asking costs more than answering.

    Each begins with another number of blocks, so that not all of many ask again in the same one.
    """

    def __init__(
        self, at: Callable[[NDArray[np.float64]], NDArray[T]], rate_hz: int, step: int = GRID_FRAMES
    ) -> None:
        self._at = at
        self._rate_hz = rate_hz
        self._step = step
        self._blocks = 1 + next(_turns) % _BLOCKS_AHEAD
        self._first = 0
        self._held: NDArray[T] | None = None

    def get(self, first: int, frames: int) -> NDArray[T]:
        """The values at the points of a block that begins on one, its end included.

        Time is the first axis.
        """
        steps = frames // self._step
        place = (first - self._first) // self._step
        if self._held is None or not 0 <= place <= len(self._held) - 1 - steps:
            self._first, place = first, 0
            self._held = self._at(
                grid_times(first, frames * self._blocks, self._rate_hz, self._step)
            )
            self._blocks = _BLOCKS_AHEAD
        return self._held[place : place + steps + 1]


class Mixer:
    """Applies gains to blocks that start on the grid."""

    def __init__(self, gains: Gains, rate_hz: int) -> None:
        self._fixed = None if gains.moves else gains.at(np.zeros(1))[0].astype(np.float32)
        self._ahead = Ahead(lambda times_s: gains.at(times_s).astype(np.float32), rate_hz)

    def apply(self, block: Block, first: int) -> Block:
        """Mix (inputs, frames) into (outputs, frames).

        Where `first` is the block's place in the mix.
        """
        if self._fixed is not None:
            result: Block = self._fixed @ block
            return result
        matrices = self._ahead.get(first, block.shape[1])
        out = np.zeros((matrices.shape[1], block.shape[1]), dtype=np.float32)
        _add_moving(out, np.ascontiguousarray(block), matrices, RAMP)
        return out

    def add(self, out: Block, block: Block, first: int) -> None:
        """Add to (outputs, frames) what `apply` would give."""
        if self._fixed is not None:
            out += self._fixed @ block
        else:
            _add_moving(
                out, np.ascontiguousarray(block), self._ahead.get(first, block.shape[1]), RAMP
            )


@numba.njit(cache=True, nogil=True, fastmath={"contract"})
def _add_moving(out, block, matrices, ramp):  # type: ignore[no-untyped-def]
    """Gains in straight lines from one matrix, (outputs, inputs), to the next.

    Most are 0, as few loudspeakers play.
    """
    for step in range(len(matrices) - 1):
        here = slice(step * len(ramp), (step + 1) * len(ramp))
        for output in range(len(out)):
            for source in range(len(block)):
                gain = matrices[step, output, source]
                more = matrices[step + 1, output, source] - gain
                if gain == 0.0 and more == 0.0:
                    continue
                into, sound = out[output, here], block[source, here]
                for i in range(len(ramp)):
                    into[i] += sound[i] * (gain + more * ramp[i])


class Fader:
    """A level in dB over time, as one gain for all channels."""

    def __init__(self, level_db: Curve, rate_hz: int) -> None:
        self._level = level_db
        self._rate_hz = rate_hz
        self._fixed = None if level_db.moves else np.float32(amplitude(level_db.at(np.zeros(1)))[0])

    def apply(self, block: Block, first: int) -> Block:
        """Apply it to a block that begins at a frame of the mix."""
        if self._fixed is not None:
            return block * self._fixed
        gains = amplitude(self._level.at(grid_times(first, block.shape[1], self._rate_hz))).astype(
            np.float32
        )
        result: Block = block * line(gains)
        return result


def line(values: NDArray[Any], kind: type = np.float32) -> NDArray[Any]:
    """From values at grid points to one a frame, straight in between.

    Parameters
    ----------
    values
        At the grid points of a block, its end included, (points, ...).
    kind
        Of the result.

    Returns
    -------
        (frames, ...), the value at each frame; the block's end is left to the next.
    """
    along: NDArray[Any] = RAMP.astype(kind)
    result: NDArray[Any] = (
        (values[:-1, None] + (values[1:] - values[:-1])[:, None] * along).reshape(-1).astype(kind)
    )
    return result


def amplitude(level_db: NDArray[np.float64]) -> NDArray[np.float64]:
    """Levels in dB, of any shape, as amplitude gains; -120 dB and below is silence."""
    return np.where(level_db <= -120.0, 0.0, 10.0 ** (level_db / 20.0))


def grid_times(
    first: int, frames: int, rate_hz: int, step: int = GRID_FRAMES
) -> NDArray[np.float64]:
    """The times of the grid points of a block, its end included.

    Parameters
    ----------
    first, frames
        Where the block begins in the mix and how long it is, in frames; both multiples of `step`.
    rate_hz
        Of the mix.
    step
        Frames from point to point.

    Returns
    -------
        Seconds, (frames / step + 1).
    """
    return (first + np.arange(frames // step + 1) * step) / rate_hz
