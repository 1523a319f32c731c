"""Each channel on its own: its level, its offset, and where its sound breaks off for a moment."""

from dataclasses import dataclass

import numba
import numpy as np

from metaphon.core.dsp.block import Block
from metaphon.core.measure.powers import PIECE, Pieces

SILENT_DBFS = -90.0  # a channel that never gets above is called silent
_QUIET = 2.0**-20  # no more than dither of 24 bits
_LOUD = 10.0 ** (-50.0 / 20.0)  # what breaks off at once was at least so loud
_SHORTEST_S, _LONGEST_S = 0.002, 1.0  # of a break in the sound; a longer one is a rest
_STRIDE = 64  # fewer samples than the shortest break has at any rate
_FULL = 1.0 - 2.0**-15
_CLIPPED_RUN = 3  # samples at full scale one after the other


@dataclass(frozen=True)
class ChannelFigures:
    """One channel: its highest sample and its level in dBFS, its mean, breaks and flat tops.

    `broken_s` is where its sound first breaks off, None where it never does.
    """

    peak_dbfs: float
    level_dbfs: float
    dc_offset: float
    breaks: int
    broken_s: float | None
    clipped_runs: int

    @property
    def is_silent(self) -> bool:
        """Whether nothing is on it."""
        return self.peak_dbfs < SILENT_DBFS


class ChannelMeter:
    """Takes a programme block by block.

    Parameters
    ----------
    channels, rate_hz
        Of the blocks.
    """

    def __init__(self, channels: int, rate_hz: int) -> None:
        self._rate_hz = rate_hz
        self._bounds = round(_SHORTEST_S * rate_hz), round(_LONGEST_S * rate_hz)
        self._highest, self._sums, self._squares = np.zeros((3, channels))
        # quiet samples in a row and whether loud before, samples at full scale in a row, breaks,
        # the first of them, flat tops
        self._runs = np.zeros((channels, 6), dtype=np.int64)
        self._runs[:, 4] = -1
        self._frames = 0

    def add(self, block: Block, pieces: Pieces) -> None:
        """Take the next block, (channels, frames), and what `pieces_of` finds in it."""
        tops = pieces.highest.max(axis=1, initial=0.0)
        self._highest = np.maximum(self._highest, tops)
        self._sums += pieces.sums.sum(axis=1)
        self._squares += pieces.squares.sum(axis=1)
        sound = np.ascontiguousarray(block)
        _look_for_breaks(sound, pieces.highest, self._runs, self._frames, *self._bounds)
        self._frames += block.shape[1]

    def finish(self) -> tuple[ChannelFigures, ...]:
        """What was found, channel by channel."""
        count = max(self._frames, 1)

        def db(value: float) -> float:
            return round(float(20.0 * np.log10(max(value, 1e-10))), 2)

        return tuple(
            ChannelFigures(
                db(highest),
                db(float(np.sqrt(squares / count))),
                round(float(total / count), 7),
                int(runs[3]),
                None if runs[4] < 0 else round(float(runs[4] / self._rate_hz), 4),
                int(runs[5]),
            )
            for highest, total, squares, runs in zip(
                self._highest, self._sums, self._squares, self._runs, strict=True
            )
        )


@numba.njit(cache=True, nogil=True)
def _look_for_breaks(block, tops, runs, first, shortest, longest):  # type: ignore[no-untyped-def]
    for channel in range(len(block)):
        for piece in range(tops.shape[1]):
            start, top = piece * PIECE, tops[channel, piece]
            sound = block[channel, start : start + PIECE]
            if top == 0.0:
                runs[channel, 0] += len(sound)
                runs[channel, 2] = 0
            elif runs[channel, 0] == 0 and top < _FULL and not _may_break(sound):
                runs[channel, 1] = abs(sound[-1]) > _LOUD
                runs[channel, 2] = 0
            else:
                _look(sound, runs[channel], first + start, shortest, longest)


@numba.njit(cache=True, nogil=True)
def _may_break(sound):  # type: ignore[no-untyped-def]
    """Whether a stretch may hold a break, or the beginning of one; looked at here and there."""
    for i in range(0, len(sound), _STRIDE):
        if abs(sound[i]) <= _QUIET:
            return True
    return abs(sound[-1]) <= _QUIET


@numba.njit(cache=True, nogil=True)
def _look(sound, own, first, shortest, longest):  # type: ignore[no-untyped-def]
    """Go through a stretch of one channel sample by sample; `own` goes on."""
    quiet, loud_before, full, breaks, broken, clipped = own
    for i in range(len(sound)):
        size = abs(sound[i])
        if size <= _QUIET:
            quiet += 1  # and whether it was loud before stays as it is
        else:
            if shortest <= quiet <= longest and loud_before == 1 and size > _LOUD:
                if breaks == 0:
                    broken = first + i - quiet
                breaks += 1
            quiet = 0
            loud_before = 1 if size > _LOUD else 0
        full = full + 1 if size >= _FULL else 0
        if full == _CLIPPED_RUN:
            clipped += 1
    own[0], own[1], own[2], own[3], own[4], own[5] = (
        quiet,
        loud_before,
        full,
        breaks,
        broken,
        clipped,
    )
