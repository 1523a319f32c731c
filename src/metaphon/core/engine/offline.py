"""A mix rendered to files.

All targets in one pass, measured as they are written, published when complete; then each stem.
"""

import os
import time
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor, wait
from contextlib import ExitStack
from dataclasses import dataclass, replace
from pathlib import Path
from typing import NamedTuple

import numpy as np

from metaphon.core.adm.model import Loudness
from metaphon.core.adm.writing import chna, to_xml
from metaphon.core.document.alternatives import Alternative
from metaphon.core.document.handover import OWN_WIDTH, FileForm, Handover
from metaphon.core.document.mix import Mix
from metaphon.core.document.parting import parted
from metaphon.core.document.personal import as_alternative
from metaphon.core.document.targets import target_named
from metaphon.core.dsp.block import Block
from metaphon.core.engine.adm import contents_of
from metaphon.core.engine.fewer_objects import fewer_objects
from metaphon.core.engine.finishing import Finished, Outcome, levelled, levelled_alone
from metaphon.core.engine.naming import Names
from metaphon.core.engine.plan import Plan, compile
from metaphon.core.engine.render import BLOCK_FRAMES, Output, StripRun, renderer_of, signals_of
from metaphon.core.engine.renderers import Signals, renderer_for
from metaphon.core.engine.stems import sources_of, stems_of
from metaphon.core.errors import InputError
from metaphon.core.files.broadcast_wave import channel_names, extension
from metaphon.core.files.wave_chunks import add_chunks
from metaphon.core.measure.channels import ChannelFigures
from metaphon.core.measure.programme import Figures, History
from metaphon.core.spatial.head import SHIPPED

_BLOCKS_AHEAD = 3
_MEASURED_ON = "4+7+0"


class Cancelled(Exception):
    """The person who asked for the render no longer wants it."""


class Run(NamedTuple):
    """A plan and what is wanted of it: the whole mix, or a part of it alone (`engine.stems`).

    `whole`: its level is found from its own loudness; a part goes by the gains of the mix.
    """

    plan: Plan
    outputs: Sequence[Output]
    whole: bool = False


@dataclass(frozen=True)
class Result:
    """One finished file with what was measured of it.

    `gain_db` is what it was brought to its loudness by, `reduction_db` the most that a limiter
    turned it down, `others` the figures of further programmes in it, `channels`
    those of each channel.
    """

    path: Path
    output: Output
    figures: Figures
    history: History
    clipped_samples: int
    gain_db: float = 0.0
    reduction_db: float = 0.0
    others: tuple[Figures, ...] = ()
    channels: tuple[ChannelFigures, ...] = ()


@dataclass(frozen=True)
class Progress:
    """How far a render is: 0 to 1, how many times faster than real time so far, files ready."""

    done: float
    speed_x_realtime: float
    files: int = 0
    of_files: int = 1


def runs_of(mix: Mix, asked: Handover, head: Path = SHIPPED) -> list[Run]:
    """What has to be run for a handover: the mix in every target, then each part of it.

    Raises InputError as `compile` does.
    """
    plan = compile(mix)
    positions = _with_positions(mix, asked) if asked.adm else None
    runs = [Run(plan, _outputs(asked.targets, None, head), whole=True)]
    if positions and not mix.alternatives.varied:  # of the very same plan
        runs = [Run(plan, [*runs[0].outputs, *positions.outputs], whole=True)]
    elif positions:
        runs.append(positions)
    for count in dict.fromkeys(asked.objects):
        runs.append(_with_positions(fewer_objects(mix, count).mix, asked, _at_most(count)))
    for one in mix.alternatives.programmes if asked.alternatives else ():
        outputs = _outputs(asked.alternatives, None, head, alternative=one)
        runs.append(Run(compile(as_alternative(mix, one.id)), outputs, whole=True))
    for kind, targets in asked.stems.items():
        placed = tuple(name for name in targets if name != OWN_WIDTH)
        for stem in stems_of(mix, kind, asked.rooms) if placed else ():
            runs.append(Run(compile(stem.mix), _outputs(placed, stem.word, head, kind)))
        for stem in sources_of(mix) if OWN_WIDTH in targets else ():
            assert stem.width
            runs.append(Run(compile(stem.mix), [Output(stem.width, f"{stem.word}_dry")]))
    return runs


def _at_most(count: int) -> Alternative:
    """What a mix of so many objects is called."""
    return Alternative(id=f"objects_{count}", name=f"At most {count} objects")


def _with_positions(mix: Mix, asked: Handover, named: Alternative | None = None) -> Run:
    """The file with an audio definition."""
    apart = parted(mix)
    plan = compile(apart.mix)
    end_s = plan.duration_s if asked.end_s is None else min(asked.end_s, plan.duration_s)
    found = contents_of(mix, apart, plan, (asked.start_s, end_s), asked.lead_s)
    return Run(plan, [Output(found.target, contents=found, alternative=named)], whole=True)


def _outputs(
    targets: Sequence[str],
    stem: str | None,
    head: Path,
    kind: str = "",
    alternative: Alternative | None = None,
) -> list[Output]:
    named = map(target_named, dict.fromkeys(targets))
    return [Output(one, stem, head, kind=kind, alternative=alternative) for one in named]


def render_to_files(
    runs: Sequence[Run],
    folder: Path,
    form: FileForm,
    names: Names,
    *,
    span_s: tuple[float, float | None] = (0.0, None),
    on_progress: Callable[[Progress], None] = lambda progress: None,
    on_strips: Callable[[Sequence[StripRun], int], None] = lambda strips, at: None,
) -> tuple[list[Result], float]:
    """Render, measure and write every output.

    Parameters
    ----------
    runs
        What is run, the whole mix first: parts are as long, and go by its gains.
    folder
        Where the files go.
    form
        How they are written.
    names
        What they are called by.
    span_s
        From and up to, in seconds; None is the end of the mix.
    on_progress
        Called between blocks; may raise Cancelled, and then, as after any error, no file is left.
    on_strips
        Shown all strips of the mix after each block, and the frame that it began with
        (`StripMeters.add`).

    Returns
    -------
        The results, and the speed in multiples of real time.

    Raises
    ------
    InputError
        Where the disk or a recording fails, in one sentence.
    """
    whole = runs[0].plan
    first = round(span_s[0] * whole.rate_hz)
    last = whole.frames
    if span_s[1] is not None:
        last = min(round(span_s[1] * whole.rate_hz), last)
    if not 0 <= first < last:
        raise InputError(
            "There is nothing to render between these times; the mix is "
            f"{whole.duration_s:.1f} s long."
        )
    paths = _paths(runs, folder, form, names)
    folder.mkdir(parents=True, exist_ok=True)
    teller = _Teller(on_progress, len(runs), len(paths), (last - first) / whole.rate_hz)
    results: list[Result] = []
    gains: dict[str, float] = {}
    try:
        # the strips run in this thread, what is made of them in as many as there are cores
        with ThreadPoolExecutor(os.cpu_count() or 2, "outputs") as pool:
            for run in runs:
                ready = len(results)
                own = paths[ready : ready + len(run.outputs)]
                teller.run(ready)
                shown = on_strips if run is runs[0] else _unseen
                results += _carried_out(run, own, form, (first, last), gains, pool, teller, shown)
                if run is runs[0]:
                    gains = {one.output.target.name: one.gain_db for one in results}
    except BaseException:
        for result in results:
            result.path.unlink(missing_ok=True)
        raise
    return results, teller.speed()


def _unseen(strips: Sequence[StripRun], at: int) -> None:
    """Nobody looks at the strips of a part."""


def _paths(runs: Sequence[Run], folder: Path, form: FileForm, names: Names) -> list[Path]:
    """The file of every output, in order. Raises InputError where two would have one name."""
    found = [folder / names.of(output, form) for run in runs for output in run.outputs]
    for path in found:
        if found.count(path) > 1:
            raise InputError(f"Two files would be called {path.name}; choose another pattern.")
    return found


class _Teller:
    """Tells how far a render of several runs is."""

    def __init__(
        self, tell: Callable[[Progress], None], runs: int, files: int, length_s: float
    ) -> None:
        self._tell, self._runs, self._files, self._length_s = tell, runs, files, length_s
        self._began = time.monotonic()
        self._run = self._ready = 0

    def run(self, ready: int) -> None:
        """A run begins; so many files are ready."""
        self._run, self._ready = self._run + 1, ready

    def tell(self, done: float) -> None:
        """A part of this run is done, 0 to 1."""
        whole = (self._run - 1 + done) / self._runs
        self._tell(Progress(whole, self.speed(whole), self._ready, self._files))

    def speed(self, done: float = 1.0) -> float:
        """Of a render of which so much is done, in multiples of real time."""
        return done * self._length_s / (time.monotonic() - self._began)


def _carried_out(
    run: Run,
    paths: Sequence[Path],
    form: FileForm,
    span: tuple[int, int],
    gains: Mapping[str, float],
    pool: ThreadPoolExecutor,
    teller: _Teller,
    on_strips: Callable[[Sequence[StripRun], int], None],
) -> list[Result]:
    """Write the files of one run; parts are turned up as the mix in their target was."""
    finds = [run.whole and form.level != "as_it_is"] * len(run.outputs)
    held = FileForm(bits="32f", rate_hz=form.rate_hz)
    into = [
        path.with_name(f".{path.name}.held.wav") if found else path
        for path, found in zip(paths, finds, strict=True)
    ]
    first, last = span
    with ExitStack() as stack:
        for path, found in zip(into, finds, strict=True):
            if found:
                stack.callback(path.unlink, missing_ok=True)
        with ExitStack() as open_lanes:
            lanes = [
                open_lanes.enter_context(
                    _Lane(
                        path,
                        output,
                        run.plan,
                        held if found else form,
                        0.0 if run.whole else gains.get(output.target.name, 0.0),
                        pool,
                    )
                )
                for path, output, found in zip(into, run.outputs, finds, strict=True)
            ]
            for at, signals, cut in signals_of(run.plan, first, last, on_strips=on_strips):
                for lane in lanes:
                    lane.add(signals, at, cut)
                if cut.start < cut.stop:
                    teller.tell((at + cut.stop - first) / (last - first))
            made = [lane.finish() for lane in lanes]
        for n, (path, output) in enumerate(zip(paths, run.outputs, strict=True)):
            if finds[n] and output.contents:
                rate_hz = form.rate_hz or run.plan.rate_hz
                made[n] = levelled_alone(into[n], made[n], path, output.target, rate_hz, form)
            elif finds[n]:
                made[n] = levelled(into[n], made[n].figures, path, output.target, form)
            _describe(path, output, made[n], run.plan, form, first)
    return [
        Result(path, output, *one)
        for path, output, one in zip(paths, run.outputs, made, strict=True)
    ]


def _describe(
    path: Path, output: Output, made: Outcome, plan: Plan, form: FileForm, first: int
) -> None:
    """Say in a WAVE file when it begins, how loud it is, and what and where its channels are.

    Not when it was made: the same state rendered again gives the same bytes.
    """
    if path.suffix != ".wav":
        return
    rate_hz = form.rate_hz or plan.rate_hz
    bits = 32 if form.bits == "32f" else int(form.bits)
    part = f", stem {output.stem}" if output.stem else ""
    part = f", {output.alternative.name}" if output.alternative else part
    begins = round((first / plan.rate_hz - form.lead_s) * rate_hz)
    history = f"A=PCM,F={rate_hz},W={bits},T={output.target.title}"
    told = [getattr(made.figures, name) for name in _SAID]
    content = {
        b"bext": extension(f"{plan.title}{part}, {output.target.title}", begins, history, told),
        b"iXML": channel_names(plan.title, output.target.channel_labels),
    }
    if output.contents:
        held = output.contents.definition
        programmes = tuple(
            replace(one, loudness=Loudness(**{name: getattr(figures, name) for name in _SAID}))
            for one, figures in zip(held.programmes, (made.figures, *made.others), strict=True)
        )
        definition = replace(held, programmes=programmes)
        content[b"axml"] = to_xml(definition, rate_hz, bits).encode()
        content[b"chna"] = chna(definition)
    add_chunks(path, content)


# in the order of a chunk bext
_SAID = (
    "integrated_lufs",
    "loudness_range_lu",
    "true_peak_dbtp",
    "max_momentary_lufs",
    "max_short_term_lufs",
)


def _programmes(output: Output) -> list[dict[str, float]]:
    """The strips of each programme of a file with an audio definition, and their gains in dB."""
    contents = output.contents
    return [contents.heard_in(one) for one in contents.definition.programmes] if contents else []


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


class _Lane:
    """Makes, measures and writes one output, block after block, a few behind the strips."""

    def __init__(
        self,
        path: Path,
        output: Output,
        plan: Plan,
        form: FileForm,
        gain_db: float,
        pool: ThreadPoolExecutor,
    ) -> None:
        self._renderer = renderer_of(plan, output)
        # what says where its sounds are is measured as it is played on many loudspeakers
        self._played = [_Played(plan, gains) for gains in _programmes(output)]
        metered = [target_named(_MEASURED_ON)] * len(self._played)
        self._file = Finished(path, output.target, plan.rate_hz, form, gain_db, metered)
        self._pool = pool
        self._pending: list[Future[None]] = []

    def add(self, signals: Signals, at: int, cut: slice) -> None:
        """Take what the strips gave in a block, of which a cut is wanted."""
        before = self._pending[-1] if self._pending else None
        self._pending.append(self._pool.submit(self._take, before, signals, at, cut))
        if len(self._pending) > _BLOCKS_AHEAD:
            self._pending.pop(0).result()

    def _take(self, before: Future[None] | None, signals: Signals, at: int, cut: slice) -> None:
        if before is not None:
            before.result()  # one after the other; what was given first is also begun first
        block = self._renderer.process(signals, at, BLOCK_FRAMES)[:, cut]
        played = [one.process(signals, at)[:, cut] for one in self._played]
        if block.shape[1]:
            self._file.add(
                np.ascontiguousarray(block), [np.ascontiguousarray(one) for one in played]
            )

    def finish(self) -> Outcome:
        while self._pending:
            self._pending.pop(0).result()
        return self._file.finish()

    def __enter__(self) -> "_Lane":
        return self

    def __exit__(self, *error: object) -> None:
        for waiting in self._pending:
            waiting.cancel()
        wait(self._pending)
        self._file.__exit__(*error)  # type: ignore[arg-type]
