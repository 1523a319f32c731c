"""From a rendered programme to a file: its rate, its level, silence round it, all measured."""

from collections.abc import Iterator, Sequence
from contextlib import ExitStack
from dataclasses import replace
from pathlib import Path
from types import TracebackType
from typing import Any, NamedTuple, Protocol

import numpy as np
from numpy.typing import NDArray

from metaphon.core.document.handover import FileForm
from metaphon.core.document.targets import Target, target_named
from metaphon.core.dsp.block import Block
from metaphon.core.dsp.motion import PIECE, Motion
from metaphon.core.dsp.resampling import Resampler
from metaphon.core.engine.kept_gains import KeptGains
from metaphon.core.files.audio import AudioWriter, ClipReader
from metaphon.core.files.channel_labels import mask_of
from metaphon.core.measure.channels import ChannelFigures, ChannelMeter
from metaphon.core.measure.powers import pieces_of
from metaphon.core.measure.programme import Figures, History, ProgrammeMeter
from metaphon.core.process.limiter import Limiter
from metaphon.core.process.processor import Channels

_STRETCH = 64 * PIECE
_CLOSE_LU = 0.05  # to the loudness asked for
_LEVELS = (
    "integrated_lufs",
    "max_momentary_lufs",
    "max_short_term_lufs",
    "true_peak_dbtp",
    "sample_peak_dbfs",
)  # what goes up with a gain
_MOST_TRIES = 4  # a limiter takes loudness away, so more has to go in


class Outcome(NamedTuple):
    """What became of a file: what was measured of it, and what was done to its level.

    `gain_db` is what it was turned up by, `reduction_db` the most that a limiter turned it down.
    `others` are the figures of further programmes in it, `channels` those of each channel.
    """

    figures: Figures
    history: History
    clipped_samples: int
    gain_db: float
    reduction_db: float = 0.0
    others: tuple[Figures, ...] = ()
    channels: tuple[ChannelFigures, ...] = ()


class Levelling(Protocol):
    """What turns a programme down block by block at the rate of its file."""

    reduction_db: float

    def process(self, block: Block) -> Block:
        """Take (channels, frames) and give what is ready of it."""

    def finish(self) -> Block:
        """Give what is left, and let go of files."""


class FollowedGains:
    """Turns a stem down as the mix was turned down.

    Parameters
    ----------
    path
        The gains that the limiter of the mix took, as `levelled` keeps them.
    """

    def __init__(self, path: Path) -> None:
        self._gains = KeptGains(path)
        self._at = 0
        self.reduction_db = 0.0

    def process(self, block: Block) -> Block:
        """Take and give (channels, frames)."""
        frames = block.shape[1]
        gains = self._gains.read(self._at, frames)
        self._at += frames
        self.reduction_db = max(self.reduction_db, _reduction_db(gains))
        return block * gains

    def finish(self) -> Block:
        """Nothing is left; lets go of the file."""
        self._gains.close()
        return np.zeros((0, 0), dtype=np.float32)


class OwnLimiter:
    """Limits a stem by itself, as if it were a mix."""

    def __init__(self, form: FileForm, target: Target, rate_hz: int) -> None:
        own = form.rate_hz or rate_hz
        self._limiter = Limiter(ceiling_dbtp=form.ceiling_dbtp)
        self._channels = target.channels
        self._late = self._limiter.latency_samples(own)
        self._running = self._limiter.start(Channels(target.channels), own, self._late)
        self._skip = self._late
        self.reduction_db = 0.0

    def process(self, block: Block) -> Block:
        """Take (channels, frames) and give what is ready of it."""
        if not block.shape[1]:
            return block
        out = self._running.process(block, Motion.still(self._limiter), 0)
        self.reduction_db = max(self.reduction_db, self._running.reduction_db)
        skipped = min(self._skip, out.shape[1])
        self._skip -= skipped
        return out[:, skipped:]

    def finish(self) -> Block:
        """Give what is still held back."""
        return self.process(np.zeros((self._channels, self._late), dtype=np.float32))


def limiter_gains_path(path: Path) -> Path:
    """Where the gains are kept that the limiter took of a mix, beside its file."""
    return path.with_name(f".{path.name}.limiter.wav")


def _reduction_db(gains: NDArray[Any]) -> float:
    return float(-20.0 * np.log10(max(float(gains.min(initial=1.0)), 1e-9)))


class Finished:
    """A file that takes a programme block by block at its rate, and holds it as a form says.

    Parameters
    ----------
    path, target
        The file and what it holds.
    rate_hz
        Of the blocks.
    form
        How it is written; its level is not looked at.
    gain_db
        What everything is turned up by.
    played
        What each of its programmes is measured as, where that is not what it holds; `add` is then
        given all of them.
    levelling
        What turns it down behind its gain; None where nothing does.
    is_last
        Whether it is handed over as it is: its channels then stand in the order that its channel
        mask asks for (`files.channel_labels`).
    """

    def __init__(
        self,
        path: Path,
        target: Target,
        rate_hz: int,
        form: FileForm,
        gain_db: float = 0.0,
        played: Sequence[Target] = (),
        levelling: Levelling | None = None,
        is_last: bool = True,
    ) -> None:
        own = form.rate_hz or rate_hz
        self._gain_db = gain_db
        self._levelling = levelling
        self._gain = np.float32(10.0 ** (gain_db / 20.0))
        self._tail = round(form.tail_s * own)
        self._resampler = Resampler(target.channels, rate_hz, own) if own != rate_hz else None
        self._played_apart = bool(played)
        metered_hz = rate_hz if played else own
        self._meters = [
            ProgrammeMeter(one.channels, metered_hz, one.metering_layout)
            for one in played or (target,)
        ]
        # what says what its channels are is a WAVE file
        container = "wav" if played else form.container
        self._writer = AudioWriter(path, target.channels, own, form.bits, container)
        self._count = target.channels
        _, order = mask_of(target.layout) if target.layout and is_last else (0, ())
        self._order = list(order) if order != tuple(range(len(order))) else []
        self._channels = ChannelMeter(target.channels, own)
        self._write(np.zeros((target.channels, round(form.lead_s * own)), dtype=np.float32))

    def add(self, block: Block, played: Sequence[Block] = ()) -> None:
        """Take the next block, (channels, frames), and what is measured where that differs."""
        for meter, heard in zip(self._meters, played, strict=False):
            meter.add(heard)
        if self._gain_db:
            block = block * self._gain
        if self._resampler:
            block = self._resampler.process(block)
        self._write_levelled(block)

    def _write_levelled(self, block: Block) -> None:
        self._write(self._levelling.process(block) if self._levelling else block)

    def _write(self, block: Block) -> None:
        if block.shape[1]:
            pieces = pieces_of(block) if self._played_apart else self._meters[0].add(block)
            self._channels.add(block, pieces)
            self._writer.add(block[self._order] if self._order else block)

    def finish(self) -> Outcome:
        """Take the end for the end, and give what was measured."""
        if self._resampler:
            self._write_levelled(self._resampler.finish())
        if self._levelling:
            self._write(self._levelling.finish())
        self._write(np.zeros((self._count, self._tail), dtype=np.float32))
        clipped = self._writer.clipped_samples
        self._writer.close()
        first, *others = (meter.finish() for meter in self._meters)
        history = self._meters[0].history
        return Outcome(
            first,
            history,
            clipped,
            self._gain_db,
            self._levelling.reduction_db if self._levelling else 0.0,
            others=tuple(others),
            channels=self._channels.finish(),
        )

    def __enter__(self) -> "Finished":
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self._writer.__exit__(kind, error, trace)


def levelled(
    held: Path, figures: Figures, path: Path, target: Target, form: FileForm, keeps_gains: bool
) -> Outcome:
    """Write a file anew at the loudness that a form asks for, no true peak above its ceiling.

    By gain alone it stays softer where the ceiling asks for it. What is too short or too soft to
    have a loudness is left at its level.

    Parameters
    ----------
    held, figures
        The file as it was rendered, in 32-bit float at its last rate, and what was measured of it.
    path, target
        The new file and what it holds.
    form
        How it is written.
    keeps_gains
        Whether what the limiter does is kept for stems to follow (`limiter_gains_path`).
    """
    rate_hz = figures.sample_rate_hz
    gain_db = 0.0
    if figures.integrated_lufs is not None:
        gain_db = form.loudness_lufs - figures.integrated_lufs
    if form.level == "gain" and figures.true_peak_dbtp is not None:
        gain_db = min(gain_db, form.ceiling_dbtp - figures.true_peak_dbtp)
    limiter = Limiter(ceiling_dbtp=form.ceiling_dbtp) if form.level == "limiter" else None
    for attempt in range(_MOST_TRIES):
        reduction_db = 0.0
        with ExitStack() as stack:
            file = stack.enter_context(Finished(path, target, rate_hz, form))
            kept = None
            if keeps_gains and limiter:
                kept = AudioWriter(limiter_gains_path(path), 1, rate_hz, "32f")
                stack.enter_context(kept)
            for block, gains in _turned_up(held, gain_db, limiter, rate_hz):
                file.add(block)
                reduction_db = max(reduction_db, _reduction_db(gains))
                if kept:
                    kept.add(gains.astype(np.float32)[None])
            made = file.finish()
        missing = form.loudness_lufs - (made.figures.integrated_lufs or form.loudness_lufs)
        if not reduction_db or abs(missing) < _CLOSE_LU or attempt == _MOST_TRIES - 1:
            break
        gain_db += missing
    return made._replace(gain_db=gain_db, reduction_db=reduction_db)


def levelled_alone(
    held: Path, found: Outcome, path: Path, target: Target, rate_hz: int, form: FileForm
) -> Outcome:
    """Write a file that is measured as something else anew at its loudness, by gain alone.

    Parameters
    ----------
    held, found
        The file as it was rendered, in 32-bit float at its last rate, and what was measured.
    path, target, rate_hz
        The new file, what it holds and its rate.
    form
        How it is written.
    """
    figures = found.figures
    if figures.integrated_lufs is None or figures.true_peak_dbtp is None:
        gain_db = 0.0
    else:
        gain_db = form.loudness_lufs - figures.integrated_lufs
        gain_db = min(gain_db, form.ceiling_dbtp - figures.true_peak_dbtp)
    played = [target_named("0+1+0")]
    with Finished(path, target, rate_hz, form, played=played, is_last=False) as file:
        for block, _ in _turned_up(held, gain_db, None, rate_hz):
            file.add(block)
        made = file.finish()
    return found._replace(
        figures=_louder(figures, gain_db),
        clipped_samples=made.clipped_samples,
        channels=made.channels,
        gain_db=gain_db,
        others=tuple(_louder(other, gain_db) for other in found.others),
    )


def _louder(figures: Figures, gain_db: float) -> Figures:
    held = {name: getattr(figures, name) for name in _LEVELS}
    return replace(figures, **{n: v + gain_db for n, v in held.items() if v is not None})


def _turned_up(
    path: Path, gain_db: float, limiter: Limiter | None, rate_hz: int
) -> Iterator[tuple[Block, NDArray[np.float64]]]:
    """A file turned up and limited, and the gain that the limiter took of each sample."""
    reader = ClipReader(path)
    gain = np.float32(10.0 ** (gain_db / 20.0))
    late = limiter.latency_samples(rate_hz) if limiter else 0
    running = limiter.start(Channels(reader.channels), rate_hz, late) if limiter else None
    for at in range(0, reader.frames + late, _STRETCH):
        block = reader.read(at, _STRETCH) * gain
        gains = np.ones(block.shape[1])
        if running and limiter:
            block = running.process(block, Motion.still(limiter), at)
            gains = running.gains
        cut = slice(max(late - at, 0), reader.frames + late - at)
        yield block[:, cut], gains[cut]
    reader.close()
