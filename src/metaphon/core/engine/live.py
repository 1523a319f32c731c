"""Playing a mix while it is being changed.

Stretches of sound from a moving place, without a click or a gap.
"""

import math
import time
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from metaphon.core.dsp.block import Block
from metaphon.core.engine.automation import GRID_FRAMES
from metaphon.core.engine.crossfade import fade_in
from metaphon.core.engine.plan import Plan
from metaphon.core.engine.render import (
    Output,
    StripRun,
    feeds_of,
    length_of,
    renderer_of,
    tail_after,
)
from metaphon.core.engine.renderers import Renderer, Signals
from metaphon.core.measure.powers import loudest

FADE_FRAMES = 512
SILENCE_DB = -120.0
_QUIET = 1e-5  # -100 dBFS: what rings on below this is let go


@dataclass
class Gate:
    """Opens and closes recordings in a straight line of FADE_FRAMES from a frame of the mix on.

    At the beginning of the mix, where nothing is cut into, they are open.
    """

    opens: int
    closes: int | None = None

    def __call__(self, block: Block, at: int) -> Block:
        """Open or close a block that begins at a frame of the mix."""
        if self.opens > 0 and at < self.opens + FADE_FRAMES:
            block = block * self._line(at, block.shape[1], self.opens)
        if self.closes is not None and at + block.shape[1] > self.closes:
            block = block * (1.0 - self._line(at, block.shape[1], self.closes))
        return block

    @staticmethod
    def _line(at: int, frames: int, edge: int) -> Block:
        along = (np.arange(frames) + (at - edge + 1)) / FADE_FRAMES
        return np.clip(along, 0.0, 1.0).astype(np.float32)


class Voice:
    """A plan at work from a frame of the mix on, for one or more outputs.

    Its recordings open at `opens`. `costs` has the seconds of work that each strip took, by id.
    """

    def __init__(self, plan: Plan, outputs: Sequence[Output], first: int, opens: int) -> None:
        self.plan = plan
        self.at = first  # the next frame that `take` gives
        self.gate = Gate(opens)
        self.costs: dict[str, float] = {}
        self.left: int | None = None  # frames that a closed voice may still ring
        self._strips = [StripRun(strip, plan.rate_hz, self.gate) for strip in plan.strips]
        self._renderers = {output: _LiveRenderer(plan, output) for output in outputs}
        self._next = first - first % GRID_FRAMES
        self._ready = {output: _nothing(output) for output in outputs}
        self._last: tuple[Signals, int, int] = ({}, self._next, 0)
        for at in range(
            self._next - plan.ahead, self._next, GRID_FRAMES
        ):  # so that those that work ahead are ahead
            self._run(at, GRID_FRAMES)
        self._drop = first - self._next

    @property
    def reached(self) -> int:
        """The first frame of the mix of which no recording has been read."""
        return self._next + self.plan.ahead

    @property
    def levels_db(self) -> dict[str, float]:
        """The RMS of what each strip last gave after its fader, dBFS, its loudest channel."""
        return {
            strip.plan.id: SILENCE_DB if strip.given is None else _level_db(strip.given)
            for strip in self._strips
        }

    def watch(self, watched: tuple[str, int] | None) -> None:
        """Look into a processor, by its strip and its place among those at work."""
        for strip in self._strips:
            own = watched is not None and strip.plan.id == watched[0]
            strip.chain.watch(watched[1] if watched and own else None)

    @property
    def seen(self) -> tuple[Block, Block] | None:
        """What the processor that is looked into last took and gave."""
        return next((strip.chain.seen for strip in self._strips if strip.chain.seen), None)

    def hear(self, outputs: Sequence[Output]) -> None:
        """Give these outputs from now on; those that are new begin with what was last worked on."""
        for output in outputs:
            if output not in self._renderers:
                self._renderers[output] = _LiveRenderer(self.plan, output)
                signals, at, frames = self._last
                short = self._ready[next(iter(self._ready))].shape[1]
                again = (
                    self._renderers[output].process(signals, at, frames)
                    if frames
                    else _nothing(output)
                )
                self._ready[output] = again[:, again.shape[1] - short :]
        for output in [output for output in self._renderers if output not in outputs]:
            del self._renderers[output], self._ready[output]

    def adopt(self, plan: Plan) -> bool:
        """Go on by another plan; False where its shape differs, and nothing was changed."""
        if [s.shape for s in plan.strips] != [s.shape for s in self.plan.strips]:
            return False
        self.plan = plan
        for running, strip in zip(self._strips, plan.strips, strict=True):
            if running.plan != strip:
                running.adopt(strip)
        for renderer in self._renderers.values():
            renderer.adopt(plan)
        return True

    def let_ring(self) -> None:
        """Sound until the gate has closed and what rings has died away."""
        until_closed = max((self.gate.closes or self.at) - self.at, 0)
        after = tail_after(self.plan, list(self._renderers))
        self.left = (
            until_closed + self.plan.longest_tail + after + self.plan.ahead + 4 * GRID_FRAMES
        )

    def take(self, frames: int) -> dict[Output, Block]:
        """The next stretch of every output."""
        wanted = frames + self._drop
        short = wanted - next(iter(self._ready.values())).shape[1]
        if short > 0:
            block = -(-short // GRID_FRAMES) * GRID_FRAMES
            parts = self._run(self._next, block)
            self._next += block
            self._ready = {
                output: np.concatenate([self._ready[output], part], axis=1)
                for output, part in parts.items()
            }
        taken = {output: ready[:, self._drop : wanted] for output, ready in self._ready.items()}
        self._ready = {output: ready[:, wanted:] for output, ready in self._ready.items()}
        self._drop = 0
        self.at += frames
        if self.left is not None and self.gate.closes is not None:
            closed = self.at > self.gate.closes + FADE_FRAMES + self.plan.ahead + GRID_FRAMES
            quiet = all(np.abs(block).max(initial=0.0) < _QUIET for block in taken.values())
            self.left = 0 if closed and quiet else self.left - frames
        return taken

    def _run(self, at: int, frames: int) -> dict[Output, Block]:
        waiting: dict[str, Block] = {}
        signals: dict[str, Block] = {}
        for strip in self._strips:
            began = time.perf_counter()
            fed = strip.run(waiting, at, frames)
            if fed is not None:
                signals[strip.plan.id] = fed
            self.costs[strip.plan.id] = (
                self.costs.get(strip.plan.id, 0.0) + time.perf_counter() - began
            )
        self._last = signals, at, frames
        return {
            output: renderer.process(signals, at, frames)
            for output, renderer in self._renderers.items()
        }

    def close(self) -> None:
        """Let go of files and threads."""
        for strip in self._strips:
            strip.close()


class _LiveRenderer:
    """A renderer that passes to another where the feeds change; the old one rings out."""

    def __init__(self, plan: Plan, output: Output) -> None:
        self._output = output
        self._feeds = feeds_of(plan, output)
        self._fold_down = plan.fold_down
        self._now = renderer_of(plan, output)
        self._tail = self._coming_tail = tail_after(plan, [output])
        self._next: Renderer | None = None
        self._ringing: list[tuple[Renderer, int]] = []  # and until which frame of the mix

    def adopt(self, plan: Plan) -> None:
        feeds = feeds_of(plan, self._output)
        if feeds != self._feeds or plan.fold_down != self._fold_down:
            self._feeds, self._fold_down = feeds, plan.fold_down
            self._next = renderer_of(plan, self._output)
            self._coming_tail = tail_after(plan, [self._output])

    def process(self, signals: Signals, first: int, frames: int) -> Block:
        rest = np.zeros((self._output.target.channels, frames), dtype=np.float32)
        for old, _ in self._ringing:
            rest += old.process({}, first, frames)
        self._ringing = [one for one in self._ringing if one[1] > first + frames]
        if self._next is None:
            return self._now.process(signals, first, frames) + rest
        up = fade_in(frames)
        rising = {strip: block * up for strip, block in signals.items()}
        falling = {strip: block - rising[strip] for strip, block in signals.items()}
        out = (
            self._now.process(falling, first, frames)
            + self._next.process(rising, first, frames)
            + rest
        )
        self._ringing.append((self._now, first + frames + self._tail))
        self._now, self._next = self._next, None
        self._tail = self._coming_tail
        return out


class Player:
    """Plays one plan after another at a place that moves on; what rang goes on ringing.

    A loop runs from its first frame up to, not including, its last.
    """

    def __init__(self, plan: Plan, outputs: Sequence[Output], at: int = 0) -> None:
        self.plan = plan
        self.at = at
        self.loop: tuple[int, int] | None = None
        self.watched: tuple[str, int] | None = None  # a strip and a place among those at work
        self._outputs = list(outputs)
        self._rings_until = 0  # what was held beyond the end and has been let go
        self._opens = at
        self._voice: Voice | None = None
        self._ringing: list[Voice] = []
        self._fading: list[Voice] = []

    @property
    def ended(self) -> bool:
        """Whether the mix has been played to its end."""
        length = max(length_of(self.plan, self._outputs), self._rings_until)
        return self.loop is None and not self.plan.plays_on and self.at >= length

    @property
    def costs(self) -> dict[str, float]:
        """Seconds of work by strip since this was last asked for."""
        if self._voice is None:
            return {}
        found, self._voice.costs = self._voice.costs, {}
        return found

    @property
    def levels_db(self) -> dict[str, float]:
        """How loud each strip is now, after its fader; empty before anything has sounded."""
        return self._voice.levels_db if self._voice else {}

    @property
    def seen(self) -> tuple[Block, Block] | None:
        """What the processor that is watched last took and gave."""
        return self._voice.seen if self._voice else None

    def change(self, plan: Plan) -> None:
        """Take an edit in: heard from the next stretch on, with what rang before ringing on."""
        if self.plan.plays_on and not plan.plays_on:
            self._rings_until = self.at + plan.longest_tail
        self.plan = plan
        if self._voice and not self._voice.adopt(plan):
            # not before what was read already, nor so early that what works ahead would begin in
            # its middle
            self._opens = max(self._voice.reached, self.at + plan.ahead)
            self._ring_out(self._opens)

    def hear(self, outputs: Sequence[Output]) -> None:
        """Give these outputs from now on."""
        self._outputs = list(outputs)
        for voice in [*self._ringing, *self._fading, *([self._voice] if self._voice else [])]:
            voice.hear(outputs)

    def jump(self, frame: int) -> None:
        """Go on from another place. What sounds is cut; who has it in hand fades it."""
        self.close()
        self._rings_until = 0
        self.at = self._opens = min(max(frame, 0), self.plan.frames)

    def take(self, frames: int) -> tuple[int, dict[Output, Block]]:
        """The place in the mix and the next stretch of each output.

        So many frames, or fewer where a loop turns.
        """
        if self.loop and self.at >= self.loop[1]:
            self._ring_out(self.loop[1])
            self.at = self._opens = self.loop[0]
        self._voice = self._voice or Voice(self.plan, self._outputs, self.at, self._opens)
        self._voice.gate.closes = self.loop[1] if self.loop else None
        self._voice.watch(self.watched)
        first, stop = (
            self.at,
            min(self.at + frames, self.loop[1]) if self.loop else self.at + frames,
        )
        count = stop - first
        blocks = {output: block.copy() for output, block in self._voice.take(count).items()}
        for voice in self._ringing:
            _add(blocks, voice.take(count), np.ones(count, dtype=np.float32))
        for voice in self._fading:
            length = min(FADE_FRAMES, count)
            _add(blocks, voice.take(length), 1.0 - fade_in(length))
            voice.close()
        self._fading = []
        for voice in [v for v in self._ringing if v.left is not None and v.left <= 0]:
            voice.close()
            self._ringing.remove(voice)
        self.at = stop
        return first, blocks

    def _ring_out(self, closes: int) -> None:
        """What sounds now reads no recording from a frame on and rings.

        What rang before it is faded out.
        """
        if self._voice is None:
            return
        self._fading += self._ringing
        self._voice.gate.closes = closes
        self._voice.let_ring()
        self._ringing = [self._voice]
        self._voice = None

    def close(self) -> None:
        """Let go of files and threads."""
        for voice in [*self._ringing, *self._fading, *([self._voice] if self._voice else [])]:
            voice.close()
        self._ringing, self._fading, self._voice = [], [], None


def _level_db(block: Block) -> float:
    power = loudest(block) / block.shape[1]
    return round(10.0 * math.log10(max(power, 1e-12)), 1)


def _nothing(output: Output) -> Block:
    return np.zeros((output.target.channels, 0), dtype=np.float32)


def _add(blocks: dict[Output, Block], parts: dict[Output, Block], line: Block) -> None:
    for output, part in parts.items():
        blocks[output][:, : part.shape[1]] += part * line
