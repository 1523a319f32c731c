"""A handover in parts that can be worked on apart, by one worker or many, with the same bytes."""

from collections.abc import Callable, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import NamedTuple

from metaphon.core.document.handover import FileForm
from metaphon.core.engine.describing import describe
from metaphon.core.engine.finishing import (
    FollowedGains,
    Levelling,
    Outcome,
    OwnLimiter,
    levelled,
    levelled_alone,
    limiter_gains_path,
)
from metaphon.core.engine.lanes import (
    Held,
    OnStrips,
    StretchGains,
    finished,
    held_path,
    pieces_of,
    put_together,
    rendered,
    unseen,
)
from metaphon.core.engine.naming import Names, safe_title
from metaphon.core.engine.plan import Plan
from metaphon.core.engine.render import Output, tail_after
from metaphon.core.engine.shared_gains import GainsFollowed, GainsKept, dynamics_of
from metaphon.core.errors import InputError
from metaphon.core.measure.channels import ChannelFigures
from metaphon.core.measure.programme import Figures, History


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


class Part(NamedTuple):
    """What can be worked on by itself: some outputs of a run, by their numbers.

    `piece`: of a long run this piece alone, held until its file is put together (`together`).
    """

    run: int
    outputs: tuple[int, ...]
    piece: int | None = None
    together: bool = False

    @property
    def files(self) -> int:
        """How many files are finished by it."""
        return len(self.outputs) if self.piece is None else 0

    @property
    def shows_strips(self) -> bool:
        """Whether all strips of the mix itself pass by, from its beginning."""
        return self.run == 0 and 0 in self.outputs and not self.piece and not self.together


class Making:
    """The files of a handover, to be made all at once or part by part.

    Parameters
    ----------
    runs
        What is run, the whole mix first: parts are as long, and go by its gains.
    folder
        Where the files go.
    pieces
        Where the pieces of long ones lie that are put together; those that are made go to `folder`.
    form
        How they are written.
    names
        What they are called by.
    span_s
        From and up to, in seconds; None is the end of the mix.

    Raises
    ------
    InputError
        Where there is nothing between these times, or two files would have one name.
    """

    def __init__(
        self,
        runs: Sequence[Run],
        folder: Path,
        form: FileForm,
        names: Names,
        span_s: tuple[float, float | None] = (0.0, None),
        pieces: Path | None = None,
    ) -> None:
        whole = runs[0].plan
        first = round(span_s[0] * whole.rate_hz)
        length = whole.frames + max(tail_after(run.plan, run.outputs) for run in runs)
        last = length
        if span_s[1] is not None:
            last = min(round(span_s[1] * whole.rate_hz), last)
        if not 0 <= first < last:
            raise InputError(
                "There is nothing to render between these times; the mix is "
                f"{length / whole.rate_hz:.1f} s long."
            )
        self._runs, self._form, self._span = runs, form, (first, last)
        self._pieces = pieces or folder
        self._own = [[folder / names.of(output, form) for output in run.outputs] for run in runs]
        self.paths = [path for own in self._own for path in own]
        for path in self.paths:
            if self.paths.count(path) > 1:
                raise InputError(f"Two files would be called {path.name}; choose another pattern.")
        self.length_s = (last - first) / whole.rate_hz
        self._folder = folder
        self._title = names.title
        stems = [run for run in runs[1:] if not run.whole]  # what is printed stands alone
        self._shares = form.stem_dynamics == "shared" and any(
            dynamics_of(run.plan) for run in stems
        )
        self._waits = bool(stems) and (self._shares or form.level != "as_it_is")

    def stages(self, workers: int) -> list[list[Part]]:
        """The parts for so many workers: those of a stage at once, in order of their numbers.

        A long mix goes by pieces, the mix itself by targets where there are fewer runs than
        workers. Stems whose level, or dynamics, are those of the mix wait until these are known.
        """
        wholes = [number for number, run in enumerate(self._runs) if run.whole]
        stems = [number for number, run in enumerate(self._runs) if not run.whole]
        pieces = len(pieces_of(self._runs[0].plan, self._span))
        every = [tuple(range(len(run.outputs))) for run in self._runs]
        if pieces > 1:
            stages = [
                [Part(run, every[run], piece) for run in wholes for piece in range(pieces)],
                [Part(run, every[run], piece) for run in stems for piece in range(pieces)],
                *(
                    [Part(run, (one,), together=True) for run in runs for one in every[run]]
                    for runs in (wholes, stems)
                ),
            ]
            if not self._shares:
                stages[:2] = [stages[0] + stages[1]]
        else:
            groups = max(workers // len(self._runs), 1)
            stages = [
                [Part(run, own) for run in wholes for own in self._dealt(run, groups)],
                [Part(run, every[run]) for run in stems],
            ]
        if not self._waits:
            stages[-2:] = [stages[-2] + stages[-1]]
        return [stage for stage in stages if stage]

    def _dealt(self, run: int, groups: int) -> list[tuple[int, ...]]:
        """The outputs of a run dealt out into so many groups, none of them empty.

        The mix is run where stems follow its dynamics, even if nobody wants the mix itself.
        """
        outputs = tuple(range(len(self._runs[run].outputs)))
        found = [own for n in range(groups) if (own := outputs[n::groups])]
        return found or ([()] if run == 0 and self._shares else [])

    def carry_out(
        self,
        part: Part,
        gains_db: Mapping[str, float],
        on_done: Callable[[float], None],
        on_strips: OnStrips = unseen,
    ) -> list[Outcome]:
        """Make one part; what came of each of its files, nothing of a piece.

        Parameters
        ----------
        part
            Of `stages`.
        gains_db
            What the mix was turned up by in each target (`gains_db`).
        on_done
            Told how much of it is done, 0 to 1; may raise, and then none of its files is left.
        on_strips
            Shown all strips after each block, and the frame that it began with.
        """
        self._folder.mkdir(parents=True, exist_ok=True)
        run = self._runs[part.run]
        outputs = [run.outputs[number] for number in part.outputs]
        paths = [self._own[part.run][number] for number in part.outputs]
        spans = pieces_of(run.plan, self._span)
        if part.piece is not None:
            with ExitStack() as stack:
                pieces = [
                    stack.enter_context(Held(held_path(path, part.piece), output, run.plan.rate_hz))
                    for path, output in zip(paths, outputs, strict=True)
                ]
                span = spans[part.piece]
                gains = self._gains(part)
                rendered(run.plan, outputs, pieces, [span], on_done, on_strips, gains)
            return []

        finds = run.whole and self._form.level != "as_it_is"
        form = FileForm(bits="32f", rate_hz=self._form.rate_hz) if finds else self._form
        into = [path.with_name(f".{path.name}.held.wav") if finds else path for path in paths]
        with ExitStack() as stack:
            for path in into if finds else ():
                stack.callback(path.unlink, missing_ok=True)
            with ExitStack() as opened:
                files = [
                    opened.enter_context(
                        finished(
                            path,
                            output,
                            run.plan.rate_hz,
                            form,
                            gains_db.get(output.target.name, 0.0) if output.kind else 0.0,
                            self._levelling(run, output),
                            not finds and not output.contents,
                        )
                    )
                    for path, output in zip(into, outputs, strict=True)
                ]
                if part.together:
                    held = [self._pieces / path.name for path in paths]
                    made = put_together(held, outputs, files, run.plan, spans, on_done)
                else:
                    gains = self._gains(part)
                    made = rendered(run.plan, outputs, files, spans, on_done, on_strips, gains)
            for n, (path, output) in enumerate(zip(paths, outputs, strict=True)):
                if finds and output.contents:
                    rate_hz = self._form.rate_hz or run.plan.rate_hz
                    made[n] = levelled_alone(
                        into[n], made[n], path, output.target, rate_hz, self._form
                    )
                elif finds:
                    kept = bool(self._stems_in(output)) and self._form.stem_dynamics == "shared"
                    made[n] = levelled(
                        into[n], made[n].figures, path, output.target, self._form, kept
                    )
                describe(path, output, made[n], run.plan, self._form, self._span[0])
        return made

    def _levelling(self, run: Run, output: Output) -> Levelling | None:
        """What turns a stem down as the mix was, or by itself; None where nothing does."""
        if run.whole or self._form.level != "limiter" or not output.kind:
            return None
        if self._form.stem_dynamics == "own":
            return OwnLimiter(self._form, output.target, run.plan.rate_hz)
        for other, path in zip(self._runs[0].outputs, self._own[0], strict=True):
            if other.target == output.target and other.is_mix:
                return FollowedGains(limiter_gains_path(self._pieces / path.name))
        return None

    def _stems_in(self, mix: Output) -> list[Output]:
        """The stems that add up to a mix in a target."""
        outputs = [output for run in self._runs if not run.whole for output in run.outputs]
        return [one for one in outputs if one.kind and one.target == mix.target and mix.is_mix]

    def _gains(self, part: Part) -> StretchGains:
        """What the mix keeps of its dynamics, and its stems follow."""
        plan = self._runs[0].plan
        if not self._shares or not dynamics_of(plan):
            return StretchGains()
        begins = tuple(first for first, _ in pieces_of(plan, self._span))
        if not self._runs[part.run].whole:
            return GainsFollowed(plan, begins, partial(self._gains_path, self._pieces))
        if part.run == 0 and part.outputs[:1] in ((), (0,)):
            return GainsKept(plan, partial(self._gains_path, self._folder))
        return StretchGains()

    def _gains_path(self, folder: Path, first: int) -> Path:
        return folder / f".{safe_title(self._title)}.{first}.gains.wav"

    def forget_gains(self) -> None:
        """Give back what was kept for stems to follow."""
        for first, _ in pieces_of(self._runs[0].plan, self._span):
            self._gains_path(self._pieces, first).unlink(missing_ok=True)
        for path in self._own[0]:
            limiter_gains_path(path).unlink(missing_ok=True)

    @property
    def stems_wait(self) -> bool:
        """Whether stems need what is found out about the mix first."""
        return self._waits

    def gains_db(self, made: Sequence[Outcome]) -> dict[str, float]:
        """What the mix was turned up by in each target, of outcomes in the order of the files."""
        pairs = zip(self._runs[0].outputs, made, strict=False)
        return {output.target.name: one.gain_db for output, one in pairs}

    def paths_of(self, run: int) -> list[Path]:
        """The files of a run, by its number."""
        return self._own[run]

    def results(self, made: Sequence[Outcome]) -> list[Result]:
        """All files with what came of them, in order."""
        outputs = [output for run in self._runs for output in run.outputs]
        return [
            Result(path, output, *one)
            for path, output, one in zip(self.paths, outputs, made, strict=True)
        ]
