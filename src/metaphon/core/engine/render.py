"""From a plan to samples, block by block.

No more of the mix is held than one block and what rings on.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import numpy as np

from metaphon.core.document.alternatives import Alternative
from metaphon.core.document.targets import Target
from metaphon.core.dsp.block import Block
from metaphon.core.dsp.delay_line import DelayLine
from metaphon.core.dsp.highest import has_sound
from metaphon.core.engine.adm import Contents, ContentsRenderer
from metaphon.core.engine.automation import GRID_FRAMES, Fader, Mixer
from metaphon.core.engine.chain import ChainRun, GainReader, all_numbers
from metaphon.core.engine.clips import ClipRun
from metaphon.core.engine.crossfade import Passing
from metaphon.core.engine.distance import DistanceRun
from metaphon.core.engine.hands import Hands
from metaphon.core.engine.plan import QUIET_DB, Feed, Plan, Route, StripPlan
from metaphon.core.engine.renderers import Renderer, renderer_for, tail_frames
from metaphon.core.errors import InputError
from metaphon.core.process.processor import FORGOTTEN_DB
from metaphon.core.spatial.head import SHIPPED

BLOCK_FRAMES = 64 * GRID_FRAMES


@dataclass(frozen=True)
class Output:
    """One result: a target, of the whole mix or of a part of it, a stem, named by a word.

    `stem_title` is what people call it.

    `kind` is that of the stems it belongs to, which add up to the mix; empty where it is none.

    `head` is whose ears headphones are for, a SOFA file. `only` is the one strip that is heard, of
    what it puts into the programme itself. `contents` are those of a file with an audio definition.
    `alternative` is the programme that it is, where that is not the mix itself.
    """

    target: Target
    stem: str | None = None
    head: Path = SHIPPED
    only: str | None = None
    contents: Contents | None = None
    kind: str = ""
    stem_title: str = ""
    alternative: Alternative | None = None

    @property
    def is_mix(self) -> bool:
        """Whether it is the mix itself, neither a part of it nor another programme."""
        return not self.stem and not self.alternative


def render(
    plan: Plan,
    outputs: Sequence[Output],
    first: int = 0,
    last: int | None = None,
    block_frames: int = BLOCK_FRAMES,
) -> Iterator[list[Block]]:
    """Render a stretch of a mix block by block.

    A span that does not begin at 0 is run up to from far enough before for every tail to have died
    away and nothing else remembers; where something may be held, from the beginning.

    Parameters
    ----------
    plan
        The mix, compiled.
    outputs
        What is wanted of it.
    first, last
        The frames of the mix from, and up to but not including; None is its end, with the tails of
        all outputs. What lies past that is silence, or what rings on.
    block_frames
        A multiple of GRID_FRAMES; changes nothing but speed.

    Yields
    ------
        For each block one array (channels, frames) an output.
    """
    renderers = [renderer_of(plan, output) for output in outputs]
    last = length_of(plan, outputs) if last is None else last
    memory = memory_of(plan, outputs)
    with Hands() as hands:
        for at, signals, cut in signals_of(plan, hands, (first, last), memory, block_frames):
            blocks = [renderer.process(signals, at, block_frames) for renderer in renderers]
            if cut.start < cut.stop:
                yield [block[:, cut] for block in blocks]


def signals_of(
    plan: Plan,
    hands: Hands,
    span: tuple[int, int],
    memory: int,
    block_frames: int = BLOCK_FRAMES,
    on_strips: Sequence[Callable[[Sequence["StripRun"], int], None]] = (),
    gains_of: Callable[[StripPlan], Mapping[int, GainReader]] = lambda strip: {},
) -> Iterator[tuple[int, dict[str, Block], slice]]:
    """What the strips put into the programme, block by block, as `render` needs it.

    `hands` run the strips; `span` and `memory` are as `steps_of` takes them. `on_strips` are
    shown all strips after each block, and the frame that it began with. `gains_of` tells what the
    processors of a strip are turned down by, where that was found elsewhere.

    Yields
    ------
        The frame of the mix that a block begins with, its blocks (channels, frames) by strip id,
        and what of it is wanted; at first nothing, while what rings before is run up to.
    """
    strips = [StripRun(one, plan.rate_hz, gains=gains_of(one)) for one in plan.strips]
    with ExitStack() as stack:
        for strip in strips:
            stack.callback(strip.close)
        sections = sections_of(strips)
        for at, cut in steps_of(plan, span, memory, block_frames):
            signals = run_all(sections, at, block_frames, hands)
            for show in on_strips:
                show(strips, at)
            yield at, signals, cut


def steps_of(
    plan: Plan, span: tuple[int, int], memory: int, block_frames: int = BLOCK_FRAMES
) -> Iterator[tuple[int, slice]]:
    """The frames of the mix that the blocks of a stretch begin with, and what is wanted of each.

    At first nothing, while what rings before is run up to, `memory` frames ahead of the stretch.
    """
    first, last = span
    warm_up = max(first - (first if plan.is_endless else memory) - GRID_FRAMES, 0)
    for at in range(warm_up - warm_up % GRID_FRAMES - plan.ahead, last, block_frames):
        yield at, slice(max(first - at, 0), min(last - at, block_frames))


def renderer_of(plan: Plan, output: Output) -> Renderer:
    """What makes an output of a plan."""
    if output.contents:
        return ContentsRenderer(output.contents, plan.rate_hz)
    feeds = feeds_of(plan, output)
    return renderer_for(output.target, feeds, plan.rate_hz, plan.fold_down, output.head)


def length_of(plan: Plan, outputs: Sequence[Output]) -> int:
    """The frames of a mix with every tail, those of the last step to these outputs too."""
    return plan.frames + tail_after(plan, outputs)


def tail_after(plan: Plan, outputs: Sequence[Output], fall_db: float = QUIET_DB) -> int:
    """How many frames the last step to these outputs sounds on by itself."""
    return max((_tail_of(plan, output, fall_db) for output in outputs), default=0)


def memory_of(plan: Plan, outputs: Sequence[Output]) -> int:
    """How many frames back what a mix takes in reaches into these outputs."""
    return plan.memory + tail_after(plan, outputs, FORGOTTEN_DB)


def _tail_of(plan: Plan, output: Output, fall_db: float) -> int:
    if output.contents:
        return 0
    feeds = feeds_of(plan, output)
    return tail_frames(output.target, feeds, plan.rate_hz, plan.fold_down, output.head, fall_db)


def feeds_of(plan: Plan, output: Output) -> list[Feed]:
    """What of the programme an output hears."""
    return [f for f in plan.feeds if output.only in (None, f.strip.partition("/")[0])]


def run_all(
    sections: Sequence[Sequence["StripRun"]], at: int, frames: int, hands: Hands
) -> dict[str, Block]:
    """Run every strip once and collect what each feeds into the programme.

    What is worked on at once is put together in order, so that who is quicker changes nothing.

    Parameters
    ----------
    sections
        The strips in working order, in stretches of which none feeds another of its own.
    at
        The frame of the mix that the block begins at, a grid point.
    frames
        Its length, a multiple of GRID_FRAMES.
    hands
        Who works on the strips of a section.

    Returns
    -------
        Blocks (channels, frames) by strip id, of those that are heard.
    """
    waiting: dict[str, Block] = {}
    signals: dict[str, Block] = {}
    for section in sections:
        works = [
            partial(strip.work, waiting.pop(strip.plan.id, None), at, frames) for strip in section
        ]
        for strip, found in zip(section, hands.all_of(works), strict=True):
            fed = strip.give(waiting, found, at)
            if fed is not None:
                signals[strip.plan.id] = fed
    return signals


def sections_of(strips: Sequence["StripRun"]) -> list[list["StripRun"]]:
    """Strips in working order, cut wherever one is fed by another of the same stretch."""
    found: list[list[StripRun]] = []
    fed: set[str] = set()
    for strip in strips:
        if not found or strip.plan.id in fed:
            found.append([])
            fed = set()
        found[-1].append(strip)
        fed |= {route.bus for route in strip.plan.routes}
    return found


class StripRun:
    """A strip at work, with its memory.

    `given` is its last block after the fader, None for silence. `chain` is its chain at work.

    `gate`, where there is one, opens or closes its recordings at a place of the mix.
    """

    def __init__(
        self,
        plan: StripPlan,
        rate_hz: int,
        gate: Callable[[Block, int], Block] | None = None,
        gains: Mapping[int, GainReader] | None = None,
    ) -> None:
        self.plan = plan
        self.given: Block | None = None
        self._rate_hz = rate_hz
        self._gate = gate
        self._clips = [ClipRun(clip) for clip in plan.clips]
        self.chain = ChainRun(plan, rate_hz, gains)
        self._fader = Passing[Fader](Fader(plan.fader_db, rate_hz))
        self._routes = [_Way(route, rate_hz) for route in plan.routes]
        self._hold = DelayLine(plan.channels, plan.ahead_out)
        self._distance = (
            DistanceRun(plan.distance, plan.channels, rate_hz) if plan.distance else None
        )

    @property
    def _prompt(self) -> bool:
        """Whether nothing holds sound back, so that silence needs no work."""
        plan = self.plan
        waits = plan.ahead_in or plan.distance or any(route.wait for route in plan.routes)
        return self.chain.is_empty and not waits

    def adopt(self, plan: StripPlan) -> None:
        """Go on by a new plan of the same shape (see `StripPlan.shape`).

        Passing over without a step.
        """
        old, self.plan = self.plan, plan
        self.chain.adopt(plan)
        if self._distance and plan.distance and plan.distance != old.distance:
            self._distance.adopt(plan.distance)
        if plan.fader_db != old.fader_db:
            self._fader.to(Fader(plan.fader_db, self._rate_hz))
        for way, route in zip(self._routes, plan.routes, strict=True):
            way.adopt(route)

    def run(self, waiting: dict[str, Block], at: int, frames: int) -> Block | None:
        """Process one block.

        Adds to what the buses wait for, gives what goes into the programme.
        """
        return self.give(waiting, self.work(waiting.pop(self.plan.id, None), at, frames), at)

    def work(self, fed: Block | None, at: int, frames: int) -> tuple[Block, Block] | None:
        """What comes into a block, and what the chain makes of it; None for nothing at all.

        Touches nothing but this strip.
        """
        taken = at + self.plan.ahead_in
        source = self._source(fed, taken, frames)
        if self._prompt and not has_sound(source):
            return None
        return source, self.chain.process(source, taken)

    def give(
        self, waiting: dict[str, Block], worked: tuple[Block, Block] | None, at: int
    ) -> Block | None:
        """Add to what the buses wait for; what goes into the programme."""
        self.given = None
        if worked is None:
            return None
        source, block = worked
        taken, given = at + self.plan.ahead_in, at + self.plan.ahead_out
        after = self.given = self._fader.apply(block, given)
        far = self._distance.process(after, given) if self._distance else after
        sent = far if self.plan.distance and self.plan.distance.where.placement.sends_too else after
        for way in self._routes:
            match way.route.tap:
                case "strip":
                    way.add(waiting, source, taken)
                case "pre":
                    way.add(waiting, block, given)
                case "post":
                    way.add(waiting, sent, given)
        return self._hold.process(far) if self.plan.feed else None

    def _source(self, block: Block | None, at: int, frames: int) -> Block:
        for running in self._clips:
            if running.covers(at, frames):
                sound = running.read(at, frames)
                block = sound if block is None else block + sound
                if not all_numbers(block):
                    raise InputError(
                        f"{running.clip.path.name} holds samples that are not numbers near "
                        f"{at / self._rate_hz:.1f} s; "
                        "export it again."
                    )
        if block is None:
            return np.zeros((self.plan.channels, frames), dtype=np.float32)
        return self._gate(block, at) if self._gate and self._clips else block

    def close(self) -> None:
        """Let go of files and threads."""
        for running in self._clips:
            running.close()
        self.chain.close()


class _Way:
    """A route with its memory."""

    def __init__(self, route: Route, rate_hz: int) -> None:
        self.route = route
        self._rate_hz = rate_hz
        self._level = Passing[Fader](Fader(route.level_db, rate_hz))
        self._mixer = Passing[Mixer](Mixer(route.gains, rate_hz))
        self._wait: DelayLine | None = None

    def adopt(self, route: Route) -> None:
        old, self.route = self.route, route
        if route.level_db != old.level_db:
            self._level.to(Fader(route.level_db, self._rate_hz))
        if route.gains != old.gains:
            self._mixer.to(Mixer(route.gains, self._rate_hz))

    def add(self, waiting: dict[str, Block], block: Block, at: int) -> None:
        """Add to what the bus waits for."""
        block = self._level.apply(block, at)
        into = waiting.get(self.route.bus)
        if into is None:
            shape = self.route.gains.outputs, block.shape[1]
            into = waiting[self.route.bus] = np.zeros(shape, dtype=np.float32)
        if not self.route.wait:
            self._mixer.add(into, block, at)
            return
        part = self._mixer.apply(block, at)
        self._wait = self._wait or DelayLine(len(part), self.route.wait)
        into += self._wait.process(part)
