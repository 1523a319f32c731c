"""Values that move within a block: what they are at some frames, and straight lines in between."""

from collections.abc import Callable
from typing import Any, Generic, NamedTuple, TypeVar

import numba
import numpy as np
from numpy.typing import NDArray

from metaphon.core.dsp.block import Block
from metaphon.core.dsp.wide import SAMPLES, load, splat, store

STEP_S = 0.002  # how long a step of a value takes
_NEAR = 1024  # samples, which stay in the nearest memory
PIECE = 1024  # frames: what moves is worked on in pieces that begin at multiples of this
V = TypeVar("V")
W = TypeVar("W")


class Motion(NamedTuple, Generic[V]):
    """What something is at frames of a block, counted from its start.

    `frames` rise; the first may lie before the block and the last after its end. Before the first
    and after the last nothing moves.
    """

    frames: tuple[int, ...]
    values: tuple[V, ...]

    @classmethod
    def still(cls, value: V) -> "Motion[V]":
        """Something that does not move."""
        return cls((0,), (value,))

    @property
    def moves(self) -> bool:
        """Whether it takes more than one value."""
        return len(self.values) > 1

    def thinned(self, least: int) -> "Motion[V]":
        """With the first and last, and what lies closer than `least` frames together."""
        last = len(self.frames) - 1
        kept = [
            n
            for n in range(last + 1)
            if n in (0, last)
            or self.frames[n] - self.frames[n - 1] < least
            or self.frames[n + 1] - self.frames[n] < least
        ]
        return Motion(tuple(self.frames[n] for n in kept), tuple(self.values[n] for n in kept))

    def map(self, of: "Callable[[V], W]") -> "Motion[W]":
        """The motion of what is made of each value; one that stays alike does not move."""
        if len(self.values) == 1:
            return Motion((0,), (of(self.values[0]),))
        made = {id(value): of(value) for value in {id(v): v for v in self.values}.values()}
        values = tuple(made[id(value)] for value in self.values)
        if all(_alike(value, values[0]) for value in values[1:]):
            return Motion.still(values[0])
        return Motion(self.frames, values)

    def arrays(self) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
        """The frames, (points), and the values, numbers or arrays, (points, ...)."""
        return np.array(self.frames, dtype=np.int64), np.array(self.values, dtype=float)

    def line(self, count: int) -> NDArray[np.float64]:
        """Values that are numbers, at each of so many frames from the block's beginning."""
        return np.interp(np.arange(count), *self.arrays())


class Memo(Generic[V, W]):
    """What was made of the value last seen, as long as the same comes again.

    Parameters
    ----------
    of : function
        Makes it.
    """

    def __init__(self, of: Callable[[V], W]) -> None:
        self._of = of
        self._held: tuple[V, W] | None = None

    def __call__(self, value: V) -> W:
        """What is made of a value."""
        if self._held is None or self._held[0] is not value:
            self._held = value, self._of(value)
        return self._held[1]


def _alike(one: Any, other: Any) -> bool:
    """Whether two values are the same, be they numbers, arrays or tuples of arrays."""
    if isinstance(one, tuple):
        return len(one) == len(other) and all(map(_alike, one, other))
    return one is other or np.array_equal(one, other)


def mixed(block: Block, frames: NDArray[np.int64], matrices: NDArray[np.float64]) -> Block:
    """A block through gains that move.

    Parameters
    ----------
    block
        (inputs, frames).
    frames
        Where the gains are given, counted from the start of the block, (points).
    matrices
        The gains there, (points, outputs, inputs); in between they run straight.

    Returns
    -------
        (outputs, frames).
    """
    out = np.zeros((matrices.shape[1], block.shape[1]), dtype=np.float32)
    add_mixed(out, np.ascontiguousarray(block), frames, matrices.astype(np.float32))
    return out


@numba.njit(cache=True, nogil=True, fastmath={"contract"})
def add_still(out, block, matrix):  # type: ignore[no-untyped-def]
    """Add to `out`, (outputs, frames), a block through gains that do not move, (outputs, inputs).

    All in single precision. Most gains are 0.
    """
    outputs, frames = out.shape
    heard = np.empty(len(block), dtype=np.int64)
    flat = block.reshape(-1)
    for first in range(0, frames, _NEAR):
        last = min(first + _NEAR, frames)
        whole = first + (last - first) // (4 * SAMPLES) * (4 * SAMPLES)
        for output in range(outputs):
            gains, into, count = matrix[output], out[output], 0
            for source in range(len(block)):
                if gains[source] != 0.0:
                    heard[count] = source
                    count += 1
            # four registers at a time: they do not wait for each other
            for i in range(first, whole if count else 0, 4 * SAMPLES):
                a, b = load(into, i), load(into, i + SAMPLES)
                c, d = load(into, i + 2 * SAMPLES), load(into, i + 3 * SAMPLES)
                for n in range(count):
                    gain, at = splat(gains[heard[n]]), heard[n] * frames + i
                    a = a + gain * load(flat, at)
                    b = b + gain * load(flat, at + SAMPLES)
                    c = c + gain * load(flat, at + 2 * SAMPLES)
                    d = d + gain * load(flat, at + 3 * SAMPLES)
                store(into, i, a)
                store(into, i + SAMPLES, b)
                store(into, i + 2 * SAMPLES, c)
                store(into, i + 3 * SAMPLES, d)
            for i in range(whole, last):
                for n in range(count):
                    into[i] += gains[heard[n]] * block[heard[n], i]


@numba.njit(cache=True, nogil=True, fastmath={"contract"})
def add_mixed(out, block, frames, matrices):  # type: ignore[no-untyped-def]
    """Add to `out` (outputs, frames) what `mixed` gives; `matrices` are in single precision.

    Most gains are 0, as few loudspeakers play.
    """
    count = block.shape[1]
    last = len(frames) - 1
    for point in range(-1, last + 1):
        start = 0 if point < 0 else max(frames[point], 0)
        stop = count if point == last else min(frames[point + 1], count)
        if start >= stop:
            continue
        one, two = max(point, 0), min(point + 1, last)
        span = np.float32(max(frames[two] - frames[one], 1))
        for output in range(len(out)):
            for source in range(len(block)):
                gain = matrices[one, output, source]
                slope = (matrices[two, output, source] - gain) / span
                if gain == 0.0 and slope == 0.0:
                    continue
                into, sound = out[output, start:stop], block[source, start:stop]
                if slope == 0.0:
                    for i in range(len(into)):
                        into[i] += sound[i] * gain
                else:
                    along = np.float32(start - frames[one])
                    for i in range(len(into)):
                        into[i] += sound[i] * (gain + slope * (along + np.float32(i)))
