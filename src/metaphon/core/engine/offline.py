"""A mix rendered to files.

All targets in one pass, measured as they are written, published when complete.
"""

import os
import re
import time
from collections.abc import Callable, Sequence
from concurrent.futures import Future, ThreadPoolExecutor, wait
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

import numpy as np

from metaphon.core.document.mix import Bus, Mix
from metaphon.core.document.targets import target_named
from metaphon.core.engine.plan import Plan
from metaphon.core.engine.render import BLOCK_FRAMES, Output, StripRun, renderer_of, signals_of
from metaphon.core.engine.renderers import Signals
from metaphon.core.errors import InputError
from metaphon.core.files.audio import AudioWriter, Bits
from metaphon.core.measure.programme import Figures, History, ProgrammeMeter
from metaphon.core.spatial.head import SHIPPED

Stems = Literal["none", "tracks", "buses"]
_MOST_TITLE_BYTES = 100
_BLOCKS_AHEAD = 3


class Cancelled(Exception):
    """The person who asked for the render no longer wants it."""


@dataclass(frozen=True)
class Result:
    """One finished file with what was measured of it."""

    path: Path
    output: Output
    figures: Figures
    history: History
    clipped_samples: int


@dataclass(frozen=True)
class Progress:
    """How far a render is: 0 to 1, and how many times faster than real time so far."""

    done: float
    speed_x_realtime: float


def outputs_of(
    mix: Mix, plan: Plan, targets: Sequence[str], stems: Stems, head: Path = SHIPPED
) -> list[Output]:
    """The results asked for: each target whole, and its stems; headphones for one head.

    A stem is what one track, or one bus, itself puts into the programme; the stems of all tracks
    and all buses together are the mix.
    """
    if not targets:
        raise InputError("No target is chosen; choose at least one format to render.")
    chosen = [target_named(name) for name in dict.fromkeys(targets)]
    outputs = [Output(target, None, head) for target in chosen]
    if stems != "none":
        buses = {strip.id for strip in mix.strips if isinstance(strip, Bus)}
        fed = [feed.strip for feed in plan.feeds if (feed.strip in buses) == (stems == "buses")]
        outputs += [Output(target, strip, head) for target in chosen for strip in fed]
    return outputs


def file_name(title: str, output: Output, container: str) -> str:
    """The name of a result, from the mix's title and the target."""
    stem = f"_stem_{output.stem}" if output.stem else ""
    return f"{safe_title(title)}{stem}_{output.target.word}.{container}"


def safe_title(title: str) -> str:
    """A mix's title as the beginning of a file name."""
    plain = re.sub(r"[^\w.+-]", "", title.strip().replace(" ", "_")).strip(".")
    # file systems count bytes: what follows the title needs room too
    return plain.encode()[:_MOST_TITLE_BYTES].decode(errors="ignore") or "mix"


def render_to_files(
    plan: Plan,
    outputs: Sequence[Output],
    folder: Path,
    *,
    span_s: tuple[float, float | None] = (0.0, None),
    container: str = "wav",
    bits: Bits = "24",
    on_progress: Callable[[Progress], None] = lambda progress: None,
    on_strips: Callable[[Sequence[StripRun], int], None] = lambda strips, at: None,
) -> tuple[list[Result], float]:
    """Render, measure and write every output.

    Parameters
    ----------
    plan
        The mix, compiled.
    outputs
        What is wanted of it, one file each.
    folder
        Where the files go.
    span_s
        From and up to, in seconds; None is the end of the mix.
    container
        `wav` or `flac`.
    bits
        Of a sample, as named in `Bits`; whole numbers are dithered (TPDF).
    on_progress
        Called between blocks; may raise Cancelled, and then, as after any error, no file is left.
    on_strips
        Shown all strips after each block, and the frame that it began with (`StripMeters.add`).

    Returns
    -------
        The results, and the speed in multiples of real time.

    Raises
    ------
    InputError
        Where the disk or a recording fails, in one sentence.
    """
    first = round(span_s[0] * plan.rate_hz)
    last = plan.frames if span_s[1] is None else min(round(span_s[1] * plan.rate_hz), plan.frames)
    if not 0 <= first < last:
        raise InputError(
            "There is nothing to render between these times; the mix is "
            f"{plan.duration_s:.1f} s long."
        )
    folder.mkdir(parents=True, exist_ok=True)
    began = time.monotonic()
    with ExitStack() as stack:
        # the strips run in this thread, what is made of them in as many as there are cores
        pool = stack.enter_context(ThreadPoolExecutor(os.cpu_count() or 2, "outputs"))
        lanes = [
            stack.enter_context(
                _Lane(
                    folder / file_name(plan.title, output, container),
                    output,
                    plan,
                    bits,
                    container,
                    pool,
                )
            )
            for output in outputs
        ]
        done = first
        for at, signals, cut in signals_of(plan, first, last, on_strips=on_strips):
            for lane in lanes:
                lane.add(signals, at, cut)
            if cut.start < cut.stop:
                done += cut.stop - cut.start
                rendered_s = (done - first) / plan.rate_hz
                took_s = time.monotonic() - began
                on_progress(Progress((done - first) / (last - first), rendered_s / took_s))
        results = [lane.finish() for lane in lanes]
    return results, (last - first) / plan.rate_hz / (time.monotonic() - began)


class _Lane:
    """Makes, measures and writes one output, block after block, a few behind the strips."""

    def __init__(
        self,
        path: Path,
        output: Output,
        plan: Plan,
        bits: Bits,
        container: str,
        pool: ThreadPoolExecutor,
    ) -> None:
        self._output = output
        self._renderer = renderer_of(plan, output)
        self._writer = AudioWriter(path, output.target.channels, plan.rate_hz, bits, container)
        self._meter = ProgrammeMeter(
            output.target.channels, plan.rate_hz, output.target.metering_layout
        )
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
        if block.shape[1]:
            block = np.ascontiguousarray(block)
            self._meter.add(block)
            self._writer.add(block)

    def finish(self) -> Result:
        while self._pending:
            self._pending.pop(0).result()
        figures = self._meter.finish()
        return Result(
            self._writer.path,
            self._output,
            figures,
            self._meter.history,
            self._writer.clipped_samples,
        )

    def __enter__(self) -> "_Lane":
        return self

    def __exit__(self, *error: object) -> None:
        for waiting in self._pending:
            waiting.cancel()
        wait(self._pending)
        self._writer.__exit__(*error)  # type: ignore[arg-type]
