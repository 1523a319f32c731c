"""A strip's processors at work. Each keeps its memory while its parameters move or are set anew."""

import math
from collections.abc import Mapping, Sequence
from difflib import SequenceMatcher
from typing import Protocol, cast

import numba
import numpy as np
from numpy.typing import NDArray

from metaphon.core.document.value_paths import with_value_at
from metaphon.core.dsp.block import Block
from metaphon.core.dsp.motion import PIECE, STEP_S, Motion
from metaphon.core.engine.automation import Frames, knots
from metaphon.core.engine.crossfade import fade_in
from metaphon.core.engine.plan import ChainLane, StripPlan
from metaphon.core.errors import InputError
from metaphon.core.process.processor import FORGOTTEN_DB, GainRunning, Processor

_STEP_AT_48K = 128  # frames from one look at parameters that move to the next
_MOST_MADE = 512


class GainReader(Protocol):
    """What a processor is turned down by, known from elsewhere."""

    def read(self, first: int, frames: int) -> NDArray[np.float32]:
        """Gains, (frames), from a frame of the mix on, at the time of what comes out."""

    def close(self) -> None:
        """Let go of files."""


class ChainRun:
    """The chain of a strip at work.

    A processor that comes passes over from what goes past it; one that goes rings out.
    """

    def __init__(
        self, plan: StripPlan, rate_hz: int, gains: Mapping[int, GainReader] | None = None
    ) -> None:
        """Begin with silence behind it.

        Parameters
        ----------
        plan, rate_hz
            The strip.
        gains
            What processors are turned down by, by their place, where that was found elsewhere.
        """
        self._rate_hz = rate_hz
        self._slots = [_Slot(plan, number, rate_hz) for number in range(len(plan.chain))]
        for number, reader in (gains or {}).items():
            self._slots[number].follow(reader)
        self._watched: int | None = None
        self.seen: tuple[Block, Block] | None = None

    @property
    def is_empty(self) -> bool:
        """Whether nothing is in it."""
        return not self._slots

    def gains_of(self, place: int) -> NDArray[np.float64]:
        """What a processor was turned down by in the last block, (frames), at its output's time."""
        return self._slots[place].gains

    def close(self) -> None:
        """Let go of files."""
        for slot in self._slots:
            slot.close()

    def watch(self, place: int | None) -> None:
        """Keep in `seen` what a processor takes and gives, by its place among those at work."""
        if place != self._watched:
            self._watched, self.seen = place, None

    def adopt(self, plan: StripPlan) -> None:
        """Go on by another plan; processors of one kind in the same order are the same ones."""
        here = [slot for slot in self._slots if not slot.leaves]
        before, after = [slot.kind for slot in here], [type(one) for one in plan.chain]
        kept: dict[int, _Slot] = {}
        for old, new, size in SequenceMatcher(None, before, after, False).get_matching_blocks():
            kept.update({new + i: here[old + i] for i in range(size)})
        for slot in here:
            if slot not in kept.values():
                slot.leave()
        going = [(place, slot) for place, slot in enumerate(self._slots) if slot.leaves]
        self._slots = []
        for number in range(len(plan.chain)):
            if number in kept:
                kept[number].adopt(plan, number)
            else:
                kept[number] = _Slot(plan, number, self._rate_hz)
                kept[number].enter()
            self._slots.append(kept[number])
        for place, slot in going:
            self._slots.insert(place, slot)

    def process(self, block: Block, at: int) -> Block:
        """Take and give (channels, frames) that begin at a frame of the mix."""
        for slot in self._slots:
            before, block = block, slot.process(block, at)
            if slot.place == self._watched and not slot.leaves:
                self.seen = before, block
        if any(slot.is_over for slot in self._slots):
            self._slots = [slot for slot in self._slots if not slot.is_over]
        return block


class _Parameters:
    """What a processor is set to over time."""

    def __init__(self, processor: Processor, lanes: Sequence[ChainLane], rate_hz: int) -> None:
        self.processor = processor
        self.lanes = tuple(lanes)
        self._rate_hz = rate_hz
        self._step = _STEP_AT_48K * max(1, round(rate_hz / 48000))
        self._made: dict[bytes, Processor] = {}

    def moves(self, first: int, frames: int) -> bool:
        """Whether they change in a block."""
        span = (first / self._rate_hz - STEP_S, (first + frames) / self._rate_hz + STEP_S)
        return any(lane.curve.moves_between(*span) for lane in self.lanes)

    def at(self, frame: int) -> Processor:
        """What the processor is set to at a frame of the mix."""
        return self._at(np.array([frame]))[0] if self.lanes else self.processor

    def motion(self, first: int, frames: int) -> Motion[Processor]:
        """How they move within a block that begins on the grid."""
        curves = [lane.curve for lane in self.lanes]
        points = knots(curves, first, frames, self._rate_hz, self._step)
        return Motion(tuple((points - first).tolist()), tuple(self._at(points)))

    def _at(self, frames: Frames) -> list[Processor]:
        times = frames / self._rate_hz
        values = np.stack([lane.curve.at(times) for lane in self.lanes], axis=1)
        return [self._set(row) for row in values]

    def _set(self, values: np.ndarray) -> Processor:
        key = values.tobytes()
        if key not in self._made:
            if len(self._made) >= _MOST_MADE:
                self._made.clear()
            made = self.processor
            for lane, value in zip(self.lanes, values, strict=True):
                made = with_value_at(made, lane.path, float(value))
            self._made[key] = made
        return self._made[key]


class _Slot:
    """A processor at work; what is not a number goes no further than it."""

    def __init__(self, plan: StripPlan, number: int, rate_hz: int) -> None:
        self._rate_hz = rate_hz
        self._set(plan, number)
        self._running = self._parameters.processor.start(
            plan.format, rate_hz, plan.latencies[number]
        )
        self._shared: GainReader | None = None
        self._gains: list[NDArray[np.float64]] = []  # in the last block
        self._before: _Parameters | None = None
        self._coming = False
        self._rings = 0  # frames it may still sound, once it has been left
        self.leaves = False

    def _set(self, plan: StripPlan, number: int) -> None:
        self.place = number
        lanes = [lane for lane in plan.chain_lanes if lane.processor == number]
        self._parameters = _Parameters(plan.chain[number], lanes, self._rate_hz)
        self._late = sum(
            plan.latencies[: number + 1]
        )  # parameters go by the time of what comes out
        self._words = f"{plan.chain[number].title} on {plan.name}"

    def follow(self, gains: GainReader) -> None:
        """Be turned down as was found elsewhere, not by the level of what comes in."""
        self._shared = gains

    @property
    def gains(self) -> NDArray[np.float64]:
        """What it was turned down by in the last block, (frames)."""
        return np.concatenate(self._gains)

    def close(self) -> None:
        """Let go of files."""
        if self._shared:
            self._shared.close()

    @property
    def kind(self) -> type[Processor]:
        """The kind of its processor."""
        return type(self._parameters.processor)

    @property
    def is_over(self) -> bool:
        """Whether it has been left and rings no longer."""
        return self.leaves and self._rings <= 0

    def enter(self) -> None:
        """Pass over to it in the next piece."""
        self._coming = True

    def leave(self) -> None:
        """Pass over from it in the next piece, and let it ring until it is forgotten."""
        tail_s = self._parameters.processor.tail_s(self._rate_hz, FORGOTTEN_DB)
        self._rings = round(tail_s * self._rate_hz) + 2 * PIECE
        self.leaves = self._coming = True

    def adopt(self, plan: StripPlan, number: int) -> None:
        """Go on by another plan, which may set it otherwise."""
        before = self._parameters
        self._set(plan, number)
        now = self._parameters
        if (now.processor, now.lanes) == (before.processor, before.lanes):
            self._parameters = before
        else:
            self._before = self._before or before

    def process(self, block: Block, at: int) -> Block:
        """Take and give (channels, frames) that begin at a frame of the mix."""
        own = at - self._late
        frames = block.shape[1]
        self._gains = []
        if self._coming or self._before or self._parameters.moves(own, frames):
            parts = [
                self._piece(block[:, first : first + PIECE], own + first)
                for first in range(0, frames, PIECE)
            ]
            out = np.concatenate(parts, axis=1)
        elif self.leaves:
            out = block + self._worked(
                np.zeros_like(block), Motion.still(self._parameters.at(own)), own
            )
        else:
            out = self._worked(block, Motion.still(self._parameters.at(own)), own)
        if self.leaves:
            self._rings -= frames
        return out

    def _piece(self, block: Block, at: int) -> Block:
        motion = self._motion(at)
        if not self._coming and not self.leaves:
            return self._worked(block, motion, at)
        rising = fade_in(PIECE) if self._coming else np.ones(PIECE, dtype=np.float32)
        self._coming = False
        into = 1.0 - rising if self.leaves else rising
        return block * (1.0 - into) + self._worked(block * into, motion, at)

    def _motion(self, at: int) -> Motion[Processor]:
        if self._before is not None:
            before, self._before = self._before.at(at), None
            return Motion((0, PIECE), (before, self._parameters.at(at + PIECE)))
        if self._parameters.moves(at, PIECE):
            return self._parameters.motion(at, PIECE)
        return Motion.still(self._parameters.at(at))

    def _worked(self, block: Block, motion: Motion[Processor], at: int) -> Block:
        if self._shared:
            gains = self._shared.read(at, block.shape[1])
            out = cast(GainRunning, self._running).follow(block, motion, gains)
        else:
            out = self._running.process(block, motion, at)
            if self._parameters.processor.gain_follows_level:
                self._gains.append(cast(GainRunning, self._running).gains)
        if not all_numbers(out):
            raise InputError(
                f"{self._words} made samples that are not numbers; bypass it or change its "
                "settings."
            )
        return out


def all_numbers(block: Block) -> bool:
    """Whether every sample is finite.

    A sum of squares is cheaper than a look at each, and hides no NaN or infinity.
    """
    return math.isfinite(_energy(block))


@numba.njit(cache=True, nogil=True, fastmath={"contract", "reassoc"})
def _energy(block):  # type: ignore[no-untyped-def]
    total = np.float32(0.0)
    for channel in range(len(block)):
        for i in range(block.shape[1]):
            total += block[channel, i] * block[channel, i]
    return total
