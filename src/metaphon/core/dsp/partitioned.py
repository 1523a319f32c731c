"""Convolution with long responses: short parts first, so that nothing is late, then long ones.

Two sizes of parts, each convolved by overlap-save with a memory of spectra (non-uniformly
partitioned convolution: W. G. Gardner 1995; F. Wefers 2015). Long parts are worked on whenever a
long stretch of input is complete, at places fixed by the time of the mix, so that neither block
size nor the place where it began changes what is heard.
"""

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from metaphon.core.dsp.block import Block
from metaphon.core.dsp.motion import PIECE
from metaphon.core.dsp.right_angle import BLOCK, add_products, forward, inverse_end, turns
from metaphon.core.dsp.right_angle import LONG as LONG_BLOCKS

assert BLOCK == PIECE
LONG = LONG_BLOCKS * PIECE  # frames of a long part


@dataclass(frozen=True, eq=False)
class Responses:
    """Responses made ready.

    `entering`, (inputs, channels), says how channels are summed to inputs; `ways`, (ways, 2), lead
    from an input to a channel each, by its spectra in short and long parts, (ways, parts, blocks,
    values). `taps` is the longest.
    """

    entering: NDArray[np.float32]
    ways: NDArray[np.intp]
    short: NDArray[np.float32]
    long: NDArray[np.float32]
    channels: int
    taps: int


def prepared(
    entering: NDArray[np.floating], responses: NDArray[np.float32], channels: int
) -> Responses:
    """Make responses ready for `LongConvolver`.

    Parameters
    ----------
    entering
        (inputs, channels): how the channels are summed to what has responses.
    responses
        (inputs, channels, taps); what is all 0 costs nothing.
    channels
        How many come in and go out.
    """
    ways = np.argwhere(responses.any(axis=2))
    own = responses[ways[:, 0], ways[:, 1]]
    return Responses(
        np.asarray(entering, dtype=np.float32),
        ways,
        _in_parts(own[:, :LONG], 1),
        _in_parts(own[:, LONG:], LONG_BLOCKS),
        channels,
        responses.shape[2],
    )


def _in_parts(responses: NDArray[np.float32], blocks: int) -> NDArray[np.float32]:
    """The spectra of the parts of responses, (responses, parts, blocks, values)."""
    (ways, taps), size = responses.shape, blocks * PIECE
    count = -(-taps // size)
    filled = np.pad(responses, ((0, 0), (0, count * size - taps))).reshape(ways, count, size)
    spectra = np.zeros((ways, count, blocks, 2 * PIECE), dtype=np.float32)
    for n in range(count):
        _enter(np.pad(filled[:, n], ((0, 0), (0, size))), spectra, n, turns(blocks))
    return spectra


class LongConvolver:
    """Long responses at work, with what they were given before.

    Parameters
    ----------
    responses
        Made ready by `prepared`.
    past
        What came before, (channels, frames), the last of it last.
    at
        The frame of the mix that it goes on from, a multiple of PIECE.
    """

    def __init__(self, responses: Responses, past: Block, at: int) -> None:
        self._responses = responses
        inputs = len(responses.entering)
        self._short = np.zeros((inputs, *responses.short.shape[1:]), dtype=np.float32)
        self._long = np.zeros((inputs, *responses.long.shape[1:]), dtype=np.float32)
        self._newest_short = self._newest_long = 0  # where the newest spectra lie
        self._place = at % LONG  # of the long stretch, how much has come
        self._taken = np.zeros((inputs, 2 * LONG), dtype=np.float32)  # the last and this stretch
        self._coming = np.zeros((responses.channels, LONG), dtype=np.float32)
        self._quiet = 0  # frames
        self._remember(past)

    def process(self, block: Block) -> Block:
        """Take and give (channels, frames), a multiple of PIECE."""
        sound = self._responses.entering @ block
        out = np.zeros(block.shape, dtype=np.float32)
        first = 0
        while first < block.shape[1]:
            some = min(LONG - self._place, block.shape[1] - first)
            part = sound[:, first : first + some]
            self._quiet = 0 if part.any() else self._quiet + some
            if self._quiet > self._responses.taps + 3 * LONG:  # all has come out
                self._place = (self._place + some) % LONG
            else:
                self._take(part, out[:, first : first + some])
            first += some
        return out

    def _take(self, part: Block, out: Block) -> None:
        """A part of a long stretch, some pieces of it."""
        begin, count = self._place + LONG, part.shape[1]
        self._taken[:, begin : begin + count] = part
        ways, parts = self._responses.ways, self._responses.short
        for first in range(0, count, PIECE):
            self._newest_short = (self._newest_short - 1) % self._short.shape[1]
            stretch = self._taken[:, begin + first - PIECE : begin + first + PIECE]
            heard = out[:, first : first + PIECE]
            _step(stretch, self._short, self._newest_short, ways, parts, turns(1), heard)
        out += self._coming[:, self._place : self._place + count]
        self._place += count
        if self._place == LONG:
            self._enter_long()
            self._place = 0

    def _enter_long(self) -> None:
        """Keep the spectra of the last two stretches, and foretell what they give the next."""
        if self._long.shape[1]:
            self._newest_long = (self._newest_long - 1) % self._long.shape[1]
            ways, parts = self._responses.ways, self._responses.long
            newest, coming = self._newest_long, self._coming
            _step(self._taken, self._long, newest, ways, parts, turns(LONG_BLOCKS), coming)
        self._taken[:, :LONG] = self._taken[:, LONG:]

    def _remember(self, past: Block) -> None:
        """Take over what came before, as if it had been given piece by piece."""
        if not past.any():
            return
        sound = self._responses.entering @ past
        begun, count = self._place, self._long.shape[1]
        need = begun + (count + 1) * LONG
        held = np.zeros((len(sound), need), dtype=np.float32)
        kept = min(need, sound.shape[1])
        held[:, need - kept :] = sound[:, sound.shape[1] - kept :]
        for n in range(count):  # the oldest first
            both = held[:, n * LONG : (n + 2) * LONG]
            self._newest_long = count - 1 - n
            _enter(both, self._long, self._newest_long, turns(LONG_BLOCKS))
        if count:
            ways, parts = self._responses.ways, self._responses.long
            _sum_up(self._long, self._newest_long, ways, parts, turns(LONG_BLOCKS), self._coming)
        self._taken[:, :LONG] = held[:, need - begun - LONG : need - begun]
        self._taken[:, LONG : LONG + begun] = held[:, need - begun :]
        line = held[:, max(need - LONG - PIECE, 0) :]
        line = np.pad(line, ((0, 0), (LONG + PIECE - line.shape[1], 0)))
        for n in range(self._short.shape[1]):  # the newest first
            last = line.shape[1] - n * PIECE
            both = line[:, last - 2 * PIECE : last]
            _enter(both, self._short, n, turns(1))


@njit(cache=True, nogil=True)
def _enter(stretches, came, newest, turns):  # type: ignore[no-untyped-def]
    """Keep the spectra of what came, (inputs, frames), as the newest."""
    for n in range(len(stretches)):
        forward(stretches[n], turns, came[n, newest])


@njit(cache=True, nogil=True)
def _sum_up(came, newest, ways, parts, turns, out):  # type: ignore[no-untyped-def]
    """Give (channels, frames): responses in parts, (ways, parts, blocks, values), of what came.

    What came, (inputs, as many, blocks, values), goes round from the newest.
    """
    held, count = came.shape[1], parts.shape[1]
    totals = np.zeros((len(out), *parts.shape[2:]), dtype=np.float32)
    nothing = np.zeros(parts.shape[2:], dtype=np.float32)
    for way in range(len(ways)):
        own, aim = came[ways[way, 0]], totals[ways[way, 1]]
        for n in range(0, count, 2):
            more = parts[way, n + 1] if n + 1 < count else nothing
            first, second = own[(newest + n) % held], own[(newest + n + 1) % held]
            add_products(aim, parts[way, n], first, more, second)
    for channel in range(len(out)):
        inverse_end(totals[channel], turns, out[channel])


@njit(cache=True, nogil=True)
def _step(stretches, came, newest, ways, parts, turns, out):  # type: ignore[no-untyped-def]
    """Keep what came as the newest, and give what the responses make of it all."""
    _enter(stretches, came, newest, turns)
    _sum_up(came, newest, ways, parts, turns, out)
