"""A mix rendered to files.

All targets in one pass, measured as they are written, published when complete; then each stem.
"""

import time
from collections.abc import Callable, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from queue import SimpleQueue

from metaphon.core.document.alternatives import Alternative
from metaphon.core.document.handover import OWN_WIDTH, FileForm, Handover
from metaphon.core.document.mix import Mix
from metaphon.core.document.parting import parted
from metaphon.core.document.personal import as_alternative
from metaphon.core.document.targets import target_named
from metaphon.core.engine.adm import contents_of
from metaphon.core.engine.fewer_objects import fewer_objects
from metaphon.core.engine.finishing import Outcome
from metaphon.core.engine.lanes import OnStrips, unseen
from metaphon.core.engine.making import Making, Part, Result, Run
from metaphon.core.engine.naming import Names
from metaphon.core.engine.plan import compile
from metaphon.core.engine.render import Output
from metaphon.core.engine.stems import sources_of, stems_of
from metaphon.core.spatial.head import SHIPPED

_AT_ONCE = 2  # runs: while one waits for the disk, or ends, the other works


class Cancelled(Exception):
    """The person who asked for the render no longer wants it."""


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
            outputs = _outputs(placed, stem.word, head, kind, stem.title)
            runs.append(Run(compile(stem.mix), outputs))
        for stem in sources_of(mix, kind) if OWN_WIDTH in targets else ():
            assert stem.width
            dry = Output(stem.width, f"{stem.word}_dry", stem_title=f"{stem.title}, as recorded")
            runs.append(Run(compile(stem.mix), [dry]))
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
    title: str = "",
    alternative: Alternative | None = None,
) -> list[Output]:
    return [
        Output(one, stem, head, kind=kind, stem_title=title, alternative=alternative)
        for one in map(target_named, dict.fromkeys(targets))
    ]


def render_to_files(
    runs: Sequence[Run],
    folder: Path,
    form: FileForm,
    names: Names,
    *,
    span_s: tuple[float, float | None] = (0.0, None),
    on_progress: Callable[[Progress], None] = lambda progress: None,
    on_strips: OnStrips = unseen,
) -> tuple[list[Result], float]:
    """Render, measure and write every output.

    Parameters
    ----------
    runs, folder, form, names, span_s
        As a `Making` takes them.
    on_progress
        Called between blocks, in the thread that asks; may raise Cancelled, and then, as after any
        error, no file is left.
    on_strips
        Shown all strips of the mix after each block, and the frame that it began with
        (`StripMeters.add`); in another thread.

    Returns
    -------
        The results, and the speed in multiples of real time.

    Raises
    ------
    InputError
        Where the disk or a recording fails, in one sentence.
    """
    making = Making(runs, folder, form, names, span_s)
    told = _Told(making.length_s, [len(run.outputs) for run in runs], on_progress)
    made: dict[int, list[Outcome]] = {}

    def carry_out(number: int, gains_db: dict[str, float]) -> int:
        told.go_on()
        part = Part(number, tuple(range(len(runs[number].outputs))))
        shown = unseen if number else on_strips
        made[number] = making.carry_out(part, gains_db, partial(told.of, number), shown)
        return number

    wholes = [number for number, run in enumerate(runs) if run.whole]
    stems = [number for number, run in enumerate(runs) if not run.whole]
    if not making.stems_wait:
        wholes, stems = wholes + stems, []
    try:
        for numbers in filter(None, (wholes, stems)):
            gains_db = making.gains_db(made[0]) if made else {}
            with ThreadPoolExecutor(_AT_ONCE, "runs") as pool:
                told.until_done([pool.submit(carry_out, number, gains_db) for number in numbers])
    except BaseException:
        for number in made:
            for one in making.paths_of(number):
                one.unlink(missing_ok=True)
        raise
    finally:
        making.forget_gains()
    every = [outcome for number in range(len(runs)) for outcome in made[number]]
    return making.results(every), told.speed_x_realtime


class _Told:
    """How far runs at once are, told where it is waited for them; where that stops, all stop."""

    def __init__(
        self, length_s: float, files: Sequence[int], on_progress: Callable[[Progress], None]
    ) -> None:
        self._length_s = length_s
        self._files = files
        self._on_progress = on_progress
        self._done = [0.0] * len(files)
        self._ready = 0
        self._news = SimpleQueue[tuple[int, float] | Future[int]]()
        self._stopped = False
        self._began = time.monotonic()

    @property
    def _share(self) -> float:
        return sum(self._done) / len(self._done)

    @property
    def speed_x_realtime(self) -> float:
        """So far, in multiples of real time."""
        return self._share * self._length_s / (time.monotonic() - self._began)

    def go_on(self) -> None:
        """Raises Cancelled where all are to stop."""
        if self._stopped:
            raise Cancelled

    def of(self, number: int, done: float) -> None:
        """A run is so far, 0 to 1."""
        self.go_on()
        self._news.put((number, done))

    def until_done(self, runs: Sequence[Future[int]]) -> None:
        """Wait for runs, which give their numbers; raises what the first that failed raised."""
        for run in runs:
            run.add_done_callback(self._news.put)
        left = len(runs)
        try:
            while left:
                news = self._news.get()
                if isinstance(news, Future):
                    left -= 1
                    self._ready += self._files[news.result()]
                    continue
                number, self._done[number] = news
                files = self._ready, sum(self._files)
                self._on_progress(Progress(self._share, self.speed_x_realtime, *files))
        except BaseException:
            self._stopped = True
            raise
