"""From a plan to samples, block by block.

No more of the mix is held than one block and what rings on.
"""

from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import ExitStack
from dataclasses import dataclass

import numpy as np

from metaphon.core.document.targets import Target
from metaphon.core.document.value_paths import with_value_at
from metaphon.core.dsp.block import Block
from metaphon.core.dsp.delay_line import DelayLine
from metaphon.core.engine.automation import GRID_FRAMES, Fader, Mixer
from metaphon.core.engine.clips import ClipRun
from metaphon.core.engine.crossfade import Crossfade, Passing, Series
from metaphon.core.engine.distance import DistanceRun
from metaphon.core.engine.plan import Feed, Plan, Route, StripPlan
from metaphon.core.engine.renderers import Renderer, renderer_for
from metaphon.core.errors import InputError
from metaphon.core.process.processor import Processor

BLOCK_FRAMES = 16 * GRID_FRAMES


@dataclass(frozen=True)
class Output:
    """One result: a target, of the whole mix or of what one strip alone puts into it (a stem)."""

    target: Target
    stem: str | None = None


def render(
    plan: Plan,
    outputs: Sequence[Output],
    first: int = 0,
    last: int | None = None,
    block_frames: int = BLOCK_FRAMES,
) -> Iterator[list[Block]]:
    """Render a stretch of a mix block by block.

    A span that does not begin at 0 is run up to from far enough before for every tail to have died
    away by 120 dB.

    Parameters
    ----------
    plan
        The mix, compiled.
    outputs
        What is wanted of it.
    first, last
        The frames of the mix from, and up to but not including; None is its end.
    block_frames
        A multiple of GRID_FRAMES; changes nothing but speed.

    Yields
    ------
        For each block one array (channels, frames) an output.
    """
    last = plan.frames if last is None else min(last, plan.frames)
    warm_up = max(first - 2 * plan.longest_tail - GRID_FRAMES, 0)
    at = warm_up - warm_up % GRID_FRAMES - plan.ahead
    strips = [StripRun(strip, plan.rate_hz) for strip in plan.strips]
    renderers = [_renderer(plan, output) for output in outputs]
    with ThreadPoolExecutor(1, "renderers") as pool, ExitStack() as stack:
        for strip in strips:
            stack.callback(strip.close)
        waiting: tuple[int, Future[list[Block]]] | None = None
        while at < last or waiting:
            # the strips of the next block run while the renderers of this one do
            ready, waiting = waiting, None
            if at < last:
                signals = run_all(strips, at, block_frames)
                waiting = at, pool.submit(_rendered_block, renderers, signals, at, block_frames)
                at += block_frames
            if ready is not None:
                place, blocks = ready[0], ready[1].result()
                cut = slice(max(first - place, 0), min(last - place, block_frames))
                if cut.start < cut.stop:
                    yield [block[:, cut] for block in blocks]


def _rendered_block(
    renderers: Sequence[Renderer], signals: dict[str, Block], at: int, frames: int
) -> list[Block]:
    return [renderer.process(signals, at, frames) for renderer in renderers]


def _renderer(plan: Plan, output: Output) -> Renderer:
    return renderer_for(output.target, feeds_of(plan, output), plan.rate_hz)


def feeds_of(plan: Plan, output: Output) -> list[Feed]:
    """What of the programme an output hears."""
    return [feed for feed in plan.feeds if output.stem in (None, feed.strip)]


def run_all(strips: Sequence["StripRun"], at: int, frames: int) -> dict[str, Block]:
    """Run every strip once, in order, and collect what each feeds into the programme.

    Parameters
    ----------
    strips
        In working order.
    at
        The frame of the mix that the block begins at, a grid point.
    frames
        Its length, a multiple of GRID_FRAMES.

    Returns
    -------
        Blocks (channels, frames) by strip id, of those that are heard.
    """
    waiting: dict[str, Block] = {}
    signals: dict[str, Block] = {}
    for strip in strips:
        fed = strip.run(waiting, at, frames)
        if fed is not None:
            signals[strip.plan.id] = fed
    return signals


def _all_numbers(block: Block) -> bool:
    """Whether every sample is finite.

    A sum is cheaper than a look at each, and hides no NaN or infinity.
    """
    return bool(np.isfinite(block.sum()))


class StripRun:
    """A strip at work, with its memory.

    `given` is its last block after the fader, None for silence.

    `gate`, where there is one, opens or closes its recordings at a place of the mix.
    """

    def __init__(
        self, plan: StripPlan, rate_hz: int, gate: Callable[[Block, int], Block] | None = None
    ) -> None:
        self.plan = plan
        self.given: Block | None = None
        self._rate_hz = rate_hz
        self._gate = gate
        self._clips = [ClipRun(clip) for clip in plan.clips]
        self._chain = Crossfade(self._start(plan))
        self._pad = DelayLine(plan.channels, plan.pad)
        self._fader = Passing(Fader(plan.fader_db, rate_hz))
        self._routes = [_Way(route, rate_hz) for route in plan.routes]
        self._hold = DelayLine(plan.channels, plan.ahead_out)
        self._distance = (
            Crossfade(DistanceRun(plan.distance, plan.channels, rate_hz)) if plan.distance else None
        )

    def _start(self, plan: StripPlan) -> "Series[_Checked]":
        return Series([_Checked(number, plan, self._rate_hz) for number in range(len(plan.chain))])

    @property
    def _prompt(self) -> bool:
        """Whether nothing holds sound back, so that silence needs no work."""
        plan = self.plan
        waits = plan.ahead_in or plan.distance or any(route.wait for route in plan.routes)
        return not (plan.chain or waits) and self._chain.at_rest

    def adopt(self, plan: StripPlan) -> None:
        """Go on by a new plan of the same shape (see `StripPlan.shape`).

        Passing over without a step.
        """
        old, self.plan = self.plan, plan
        if [type(p) for p in plan.chain] != [type(p) for p in old.chain]:
            self._chain.replace(self._start(plan), _tail_frames(old.chain, self._rate_hz))
        else:
            for part in self._chain.latest.parts:
                part.adopt(plan)
        if self._distance and plan.distance and plan.distance != old.distance:
            tail = round(old.distance.tail_s * self._rate_hz) if old.distance else 0
            self._distance.replace(DistanceRun(plan.distance, plan.channels, self._rate_hz), tail)
        if plan.fader_db != old.fader_db:
            self._fader.to(Fader(plan.fader_db, self._rate_hz))
        for way, route in zip(self._routes, plan.routes, strict=True):
            way.adopt(route)

    def run(self, waiting: dict[str, Block], at: int, frames: int) -> Block | None:
        """Process one block.

        Adds to what the buses wait for, gives what goes into the programme.
        """
        taken, given = at + self.plan.ahead_in, at + self.plan.ahead_out
        source = self._source(waiting, taken, frames)
        self.given = None
        if self._prompt and not source.any():
            return None
        block = self._pad.process(self._chain.process(source, taken))
        after = self.given = self._fader.apply(block, given)
        far = self._distance.process(after, given) if self._distance else after
        sent = far if self.plan.distance and self.plan.distance.where.placement.sends_too else after
        for way in self._routes:
            match way.route.tap:
                case "strip":
                    part = way.take(source, taken)
                case "pre":
                    part = way.take(block, given)
                case "post":
                    part = way.take(sent, given)
            bus = way.route.bus
            waiting[bus] = waiting[bus] + part if bus in waiting else part
        return self._hold.process(far) if self.plan.feed else None

    def _source(self, waiting: dict[str, Block], at: int, frames: int) -> Block:
        block = waiting.pop(self.plan.id, None)
        if block is None:
            block = np.zeros((self.plan.channels, frames), dtype=np.float32)
        for running in self._clips:
            if running.covers(at, frames):
                block += running.read(at, frames)
                if not _all_numbers(block):
                    raise InputError(
                        f"{running.clip.path.name} holds samples that are not numbers near "
                        f"{at / self._rate_hz:.1f} s; "
                        "export it again."
                    )
        return self._gate(block, at) if self._gate and self._clips else block

    def close(self) -> None:
        """Let go of files and threads."""
        for running in self._clips:
            running.close()


def _tail_frames(chain: Sequence[Processor], rate_hz: int) -> int:
    return (
        round(sum(p.tail_s for p in chain) * rate_hz)
        + sum(p.latency_samples(rate_hz) for p in chain)
        + GRID_FRAMES
    )


class _Checked:
    """A processor at work whose samples are looked at: what is not a number goes no further.

    Where its parameters move it is started anew at each grid point at which they have changed; each
    takes over from the one before in a straight line up to the next.
    """

    def __init__(self, number: int, plan: StripPlan, rate_hz: int) -> None:
        self._number = number
        self._rate_hz = rate_hz
        self._set(plan)
        self._current = self._processor
        self._running = Crossfade(self._processor.start(plan.channels, rate_hz))
        self._began = False

    def _set(self, plan: StripPlan) -> None:
        self._processor = plan.chain[self._number]
        self._lanes = tuple(lane for lane in plan.chain_lanes if lane.processor == self._number)
        self._late = sum(p.latency_samples(self._rate_hz) for p in plan.chain[: self._number])
        self._words = f"{self._processor.title} on {plan.name}"
        self._channels = plan.channels

    def adopt(self, plan: StripPlan) -> None:
        """Go on by another plan, which may set this processor otherwise."""
        before = self._processor
        self._set(plan)
        if self._processor != before and not self._lanes:
            self._to(self._processor)

    def _to(self, processor: Processor) -> None:
        self._running.replace(
            processor.start(self._channels, self._rate_hz),
            _tail_frames((self._current,), self._rate_hz),
        )
        self._current = processor

    def process(self, block: Block, at: int) -> Block:
        block = self._moving(block, at) if self._lanes else self._running.process(block)
        if not _all_numbers(block):
            raise InputError(
                f"{self._words} made samples that are not numbers; bypass it or change its "
                "settings."
            )
        return block

    def _moving(self, block: Block, at: int) -> Block:
        parts = []
        for first in range(0, block.shape[1], GRID_FRAMES):
            wanted = self._at((at - self._late + first) / self._rate_hz)
            if not self._began:  # nothing has sounded yet, so there is nothing to pass over from
                self._running, self._current = (
                    Crossfade(wanted.start(self._channels, self._rate_hz)),
                    wanted,
                )
            elif wanted != self._current:
                self._to(wanted)
            self._began = True
            parts.append(self._running.process(block[:, first : first + GRID_FRAMES]))
        return np.concatenate(parts, axis=1)

    def _at(self, time_s: float) -> Processor:
        found = self._processor
        for lane in self._lanes:
            found = with_value_at(found, lane.path, float(lane.curve.at(np.array([time_s]))[0]))
        return found


class _Way:
    """A route with its memory."""

    def __init__(self, route: Route, rate_hz: int) -> None:
        self.route = route
        self._rate_hz = rate_hz
        self._level = Passing(Fader(route.level_db, rate_hz))
        self._mixer = Passing(Mixer(route.gains, rate_hz))
        self._wait: DelayLine | None = None

    def adopt(self, route: Route) -> None:
        old, self.route = self.route, route
        if route.level_db != old.level_db:
            self._level.to(Fader(route.level_db, self._rate_hz))
        if route.gains != old.gains:
            self._mixer.to(Mixer(route.gains, self._rate_hz))

    def take(self, block: Block, at: int) -> Block:
        part = self._mixer.apply(self._level.apply(block, at), at)
        self._wait = self._wait or DelayLine(len(part), self.route.wait)
        return self._wait.process(part)
