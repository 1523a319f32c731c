"""Convolution with long responses: short parts first, so that nothing is late, then long ones.

Two sizes of parts, each convolved by overlap-save with a memory of spectra (non-uniformly
partitioned convolution: W. G. Gardner 1995; F. Wefers 2015). Long parts are worked on whenever a
long stretch of input is complete, at places fixed by the time of the mix, so that neither block
size nor the place where it began changes what is heard.
"""

from dataclasses import dataclass

import numba
import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft, rfft

from metaphon.core.dsp.block import Block
from metaphon.core.dsp.motion import PIECE

LONG = 16 * PIECE  # frames of a long part

Parts = NDArray[np.complex64]  # (parts, bins)


@dataclass(frozen=True, eq=False)
class Responses:
    """Responses made ready.

    `entering`, (inputs, channels), says how channels are summed to inputs; each way leads from an
    input to a channel by its spectra in short and long parts. `taps` is the longest.
    """

    entering: NDArray[np.float32]
    ways: tuple[tuple[int, int, Parts, Parts], ...]
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
    taps = responses.shape[2]
    ways = []
    for source, own in enumerate(responses):
        for aim, response in enumerate(own):
            if response.any():
                short = _spectra(response[:LONG], PIECE)
                ways.append((source, aim, short, _spectra(response[LONG:], LONG)))
    return Responses(np.asarray(entering, dtype=np.float32), tuple(ways), channels, taps)


def _spectra(response: NDArray[np.float32], size: int) -> Parts:
    """The spectra of a response's parts, (parts, bins)."""
    count = -(-len(response) // size)
    filled = np.zeros(count * size, dtype=np.float32)
    filled[: len(response)] = response
    result: Parts = rfft(filled.reshape(count, size), 2 * size)
    return result


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
        inputs, ways = len(responses.entering), responses.ways
        short = max((len(way[2]) for way in ways), default=1)
        long = max((len(way[3]) for way in ways), default=0)
        self._short = np.zeros((inputs, short, PIECE + 1), dtype=np.complex64)
        self._long = np.zeros((inputs, long, LONG + 1), dtype=np.complex64)
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
        pieces = count // PIECE
        both = np.stack(
            [
                self._taken[:, begin + (n - 1) * PIECE : begin + (n + 1) * PIECE]
                for n in range(pieces)
            ]
        )
        spectra = rfft(both, 2 * PIECE)
        totals = np.zeros((pieces, len(out), PIECE + 1), dtype=np.complex64)
        for total, own in zip(totals, spectra, strict=True):
            self._newest_short = (self._newest_short - 1) % self._short.shape[1]
            self._short[:, self._newest_short] = own
            for source, aim, parts, _ in self._responses.ways:
                _add_up(total[aim], parts, self._short[source], self._newest_short)
        heard = irfft(totals, 2 * PIECE)[:, :, PIECE:]
        out[:] = heard.transpose(1, 0, 2).reshape(len(out), count)
        out += self._coming[:, self._place : self._place + count]
        self._place += count
        if self._place == LONG:
            self._enter_long()
            self._place = 0

    def _enter_long(self) -> None:
        """Keep the spectra of the last two stretches, and foretell what they give the next."""
        if self._long.shape[1]:
            self._newest_long = (self._newest_long - 1) % self._long.shape[1]
            self._long[:, self._newest_long] = rfft(self._taken, 2 * LONG)
            self._foretell()
        self._taken[:, :LONG] = self._taken[:, LONG:]

    def _foretell(self) -> None:
        totals = np.zeros((self._responses.channels, LONG + 1), dtype=np.complex64)
        for source, aim, _, parts in self._responses.ways:
            _add_up(totals[aim], parts, self._long[source], self._newest_long)
        self._coming = irfft(totals, 2 * LONG)[:, LONG:]

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
            self._long[:, self._newest_long] = rfft(both, 2 * LONG)
        if count:
            self._foretell()
        self._taken[:, :LONG] = held[:, need - begun - LONG : need - begun]
        self._taken[:, LONG : LONG + begun] = held[:, need - begun :]
        line = held[:, max(need - LONG - PIECE, 0) :]
        line = np.pad(line, ((0, 0), (LONG + PIECE - line.shape[1], 0)))
        for n in range(self._short.shape[1]):  # the newest first
            last = line.shape[1] - n * PIECE
            both = line[:, last - 2 * PIECE : last]
            self._short[:, n] = rfft(both, 2 * PIECE)


@numba.njit(cache=True, nogil=True, fastmath={"contract"})
def _add_up(total, parts, spectra, newest):  # type: ignore[no-untyped-def]
    """Add the products of a response's parts, (parts, bins), and of what came, newest first.

    `spectra` goes round, (as many or more, bins); `total` is (bins).
    """
    held = len(spectra)
    for n in range(len(parts)):
        own, came = parts[n], spectra[(newest + n) % held]
        for i in range(len(total)):
            total[i] += own[i] * came[i]
