"""What is made of the strips, output by output: rendered, held, put together, a few at once.

A long render is made in pieces, each from a fresh start that is run up to, so that whoever makes a
piece, and wherever, the samples are the same.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import AbstractContextManager, ExitStack, nullcontext, suppress
from functools import partial
from itertools import pairwise
from pathlib import Path
from typing import Any, NamedTuple, Protocol, Self, TypeVar

import numpy as np

from metaphon.core.document.handover import FileForm
from metaphon.core.document.targets import target_named
from metaphon.core.dsp.block import Block
from metaphon.core.engine.chain import GainReader
from metaphon.core.engine.finishing import Finished, Levelling, Outcome
from metaphon.core.engine.hands import Hands, Work
from metaphon.core.engine.plan import Plan, StripPlan
from metaphon.core.engine.render import (
    BLOCK_FRAMES,
    Output,
    StripRun,
    memory_of,
    renderer_of,
    signals_of,
    steps_of,
)
from metaphon.core.engine.renderers import Signals, renderer_for
from metaphon.core.files.audio import AudioWriter, ClipReader

PIECE_S = 300.0
_BLOCKS_AHEAD = 3
_MEASURED_ON = "4+7+0"

Span = tuple[int, int]
T = TypeVar("T")
T_co = TypeVar("T_co", covariant=True)
OnStrips = Callable[[Sequence[StripRun], int], None]


def unseen(strips: Sequence[StripRun], at: int) -> None:
    """Nobody looks at the strips."""


class _Into(Protocol[T_co]):
    """What takes a programme block by block, and what is measured where that differs."""

    def add(self, block: Block, played: Sequence[Block] = ()) -> None: ...
    def finish(self) -> T_co: ...


class StretchGains:
    """What dynamics are turned down by in each stretch: nothing is kept, nothing followed."""

    def written(self, first: int) -> AbstractContextManager[OnStrips]:
        """What writes gains down that are shown to it, for the stretch that begins at a frame."""
        return nullcontext(unseen)

    def followed(self, first: int) -> Callable[[StripPlan], Mapping[int, GainReader]]:
        """What the dynamics of a strip follow in the stretch that begins at a frame."""
        return lambda strip: {}


class Made(NamedTuple):
    """A block of an output, (channels, frames), and each of its programmes as it is played."""

    block: Block
    played: list[Block]


def pieces_of(plan: Plan, span: Span) -> list[Span]:
    """The stretches that a span of a mix, in frames, is rendered in, each of about PIECE_S.

    One, where something may be held for ever.
    """
    first, last = span
    count = 1 if plan.is_endless else max(round((last - first) / (PIECE_S * plan.rate_hz)), 1)
    edges = [first + (last - first) * number // count for number in range(count + 1)]
    return list(pairwise(edges))


def rendered(
    plan: Plan,
    outputs: Sequence[Output],
    files: Sequence[_Into[T]],
    spans: Sequence[Span],
    on_done: Callable[[float], None],
    on_strips: OnStrips = unseen,
    gains: StretchGains | None = None,
) -> list[T]:
    """Render outputs into files, one stretch after the other.

    Parameters
    ----------
    plan, outputs
        What is rendered.
    files
        One an output, open.
    spans
        From and up to, in frames, as `pieces_of` gives them.
    on_done
        Told how much is done, 0 to 1, between blocks.
    on_strips
        Shown all strips after each block of the first stretch.
    gains
        What dynamics are turned down by, to be kept or followed.

    Returns
    -------
        What each file says when it is finished.
    """
    frames = sum(last - first for first, last in spans)
    follows = gains or StretchGains()
    done, memory = 0, _memory_of(plan, outputs)
    with ExitStack() as stack:
        hands = stack.enter_context(Hands())
        lanes = [stack.enter_context(_Lane(file, hands)) for file in files]
        for number, (first, last) in enumerate(spans):
            sounds = [_Sound(plan, output) for output in outputs]
            with follows.written(first) as write:
                shown = (write,) if number else (write, on_strips)
                for at, signals, cut in signals_of(
                    plan,
                    hands,
                    (first, last),
                    memory,
                    on_strips=shown,
                    gains_of=follows.followed(first),
                ):
                    for lane, sound in zip(lanes, sounds, strict=True):
                        lane.add(sound, signals, at, cut)
                    if cut.start < cut.stop:
                        on_done((done + at + cut.stop - first) / frames)
            done += last - first
        for lane in lanes:
            lane.wait()
        # all at once, as each waits for the disk
        ends = stack.enter_context(ThreadPoolExecutor(max(len(files), 1), "ends"))
        return list(ends.map(lambda file: file.finish(), files))


def finished(
    path: Path,
    output: Output,
    rate_hz: int,
    form: FileForm,
    gain_db: float,
    levelling: Levelling | None,
    is_last: bool,
) -> Finished:
    """The file of an output, turned up by a gain, and down as its levelling says."""
    # what says where its sounds are is measured as it is played on many loudspeakers
    metered = [target_named(_MEASURED_ON)] * len(_programmes(output))
    return Finished(path, output.target, rate_hz, form, gain_db, metered, levelling, is_last)


class Held(AudioWriter):
    """A piece of an output, kept in 32-bit float until all pieces are there."""

    def __init__(self, path: Path, output: Output, rate_hz: int) -> None:
        played = target_named(_MEASURED_ON).channels * len(_programmes(output))
        super().__init__(path, output.target.channels + played, rate_hz, "32f")

    def add(self, block: Block, played: Sequence[Block] = ()) -> None:
        """Write the next block, and what is measured where that differs."""
        super().add(np.concatenate([block, *played]))

    def finish(self) -> None:
        """There is nothing to say of a piece."""
        self.close()


def held_path(path: Path, piece: int) -> Path:
    """Where a piece of a file is held."""
    return path.with_name(f".{path.name}.{piece}.piece.wav")


def put_together(
    paths: Sequence[Path],
    outputs: Sequence[Output],
    files: Sequence[Finished],
    plan: Plan,
    spans: Sequence[Span],
    on_done: Callable[[float], None],
) -> list[Outcome]:
    """Finish files from pieces that are held, block by block as if they were just rendered."""
    made = []
    for number, (path, output, file) in enumerate(zip(paths, outputs, files, strict=True)):
        for piece, span in enumerate(spans):
            for block, played in _read(held_path(path, piece), output, plan, span):
                file.add(block, played)
            on_done((number + (piece + 1) / len(spans)) / len(paths))
        made.append(file.finish())
    return made


def _read(path: Path, output: Output, plan: Plan, span: Span) -> Iterator[Made]:
    reader = ClipReader(path)
    try:
        at = 0
        for _, cut in steps_of(plan, span, _memory_of(plan, [output])):
            if cut.start < cut.stop:
                block = reader.read(at, cut.stop - cut.start)
                at += block.shape[1]
                own, played = np.split(block, [output.target.channels])
                several = np.split(played, len(_programmes(output)) or 1)
                yield Made(
                    np.ascontiguousarray(own),
                    [np.ascontiguousarray(one) for one in several if len(one)],
                )
    finally:
        reader.close()


def _programmes(output: Output) -> list[dict[str, float]]:
    """The strips of each programme of a file with an audio definition, and their gains in dB."""
    contents = output.contents
    return [contents.heard_in(one) for one in contents.definition.programmes] if contents else []


def _memory_of(plan: Plan, outputs: Sequence[Output]) -> int:
    """How far outputs are run up to, with what their programmes are measured as."""
    measured = [Output(target_named(_MEASURED_ON)) for output in outputs if output.contents]
    return memory_of(plan, [*outputs, *measured])


class _Played:
    """One of the programmes of a file as it is played, of some strips, each turned up or down."""

    def __init__(self, plan: Plan, gains_db: Mapping[str, float]) -> None:
        feeds = [feed for feed in plan.feeds if feed.strip in gains_db]
        target = target_named(_MEASURED_ON)
        self._renderer = renderer_for(target, feeds, plan.rate_hz, plan.fold_down)
        self._gains = {
            strip: np.float32(10.0 ** (gain_db / 20.0))
            for strip, gain_db in gains_db.items()
            if gain_db
        }

    def process(self, signals: Signals, at: int) -> Block:
        """Play the next block."""
        turned = {n: signals[n] * gain for n, gain in self._gains.items() if n in signals}
        return self._renderer.process({**signals, **turned}, at, BLOCK_FRAMES)


class _Sound:
    """An output at work."""

    def __init__(self, plan: Plan, output: Output) -> None:
        self._renderer = renderer_of(plan, output)
        self._played = [_Played(plan, gains) for gains in _programmes(output)]

    def process(self, signals: Signals, at: int, cut: slice) -> Made:
        """The next block."""
        block = self._renderer.process(signals, at, BLOCK_FRAMES)[:, cut]
        played = [one.process(signals, at)[:, cut] for one in self._played]
        return Made(np.ascontiguousarray(block), [np.ascontiguousarray(one) for one in played])


class _Lane:
    """Makes one output and gives it to its file, block after block, a few behind the strips."""

    def __init__(self, file: _Into[Any], hands: Hands) -> None:
        self._file = file
        self._hands = hands
        self._pending: list[Work[None]] = []
        self._stopped = False

    def add(self, sound: _Sound, signals: Signals, at: int, cut: slice) -> None:
        """Take what the strips gave in a block, of which a cut is wanted."""
        before = self._pending[-1] if self._pending else None
        take = partial(self._take, sound, signals, at, cut)
        self._pending.append(self._hands.later(take, after=before))
        if len(self._pending) > _BLOCKS_AHEAD:
            self._pending.pop(0).result()

    def _take(self, sound: _Sound, signals: Signals, at: int, cut: slice) -> None:
        if self._stopped:
            return
        made = sound.process(signals, at, cut)
        if made.block.shape[1]:
            self._file.add(made.block, made.played)

    def wait(self) -> None:
        """Until everything that was given is in the file."""
        while self._pending:
            self._pending.pop(0).result()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *error: object) -> None:
        self._stopped = True
        for work in self._pending:
            with suppress(BaseException):
                work.result()
