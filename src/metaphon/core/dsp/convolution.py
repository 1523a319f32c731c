"""Convolution of a stream with fixed responses, in blocks of any length and without added latency.

Each block is one part of the input, convolved whole; what reaches over its end is kept for the next
(Oppenheim & Schafer, section 8.7.3).
"""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft, next_fast_len, rfft

from metaphon.core.dsp.block import Block
from metaphon.core.dsp.motion import PIECE, Motion

Taps = NDArray[np.float64]


class Convolver:
    """Every input through its own response to every output.

    Parameters
    ----------
    responses : array of shape (inputs, outputs, taps)
        What each output hears of a click at each input.
    """

    def __init__(self, responses: NDArray[np.float32]) -> None:
        self._responses = responses
        self.inputs, self.outputs, self._taps = responses.shape
        self._spectra: dict[int, NDArray[np.complex64]] = {}
        self._carry = np.zeros((self.outputs, self._taps - 1), dtype=np.float32)

    def process(self, block: Block) -> Block:
        """Take (inputs, frames), give (outputs, frames).

        Inputs beyond those that have responses are not heard.
        """
        frames = block.shape[1]
        size = next_fast_len(frames + self._taps - 1, real=True)
        if size not in self._spectra:
            self._spectra = {size: rfft(self._responses, size).astype(np.complex64)}
        total = np.zeros((self.outputs, size // 2 + 1), dtype=np.complex64)
        for channel, responses in zip(block, self._spectra[size], strict=False):
            if channel.any():
                total += rfft(channel, size) * responses
        out = irfft(total, size)[:, : frames + self._taps - 1].astype(np.float32)
        out[:, : self._carry.shape[1]] += self._carry
        self._carry = out[:, frames:].copy()
        result: Block = out[:, :frames]
        return result


class FilterWithMemory:
    """Every channel through one response, in double precision, which may be another at any time.

    The memory is of the input, so a new response answers to what came before it too: the two pass
    over as if both had always been there. Pieces of PIECE frames are convolved with the parts of
    the response (uniformly partitioned overlap-save; Wefers 2015), so block size changes nothing.

    Parameters
    ----------
    channels : int
        How many channels its blocks have.
    """

    def __init__(self, channels: int) -> None:
        self._last = np.zeros((channels, PIECE))
        self._past = np.zeros((0, channels, PIECE + 1), dtype=np.complex128)
        self._spectra: dict[int, tuple[Taps, NDArray[np.complex128]]] = {}

    def process(self, block: Block, taps: Motion[Taps]) -> Block:
        """Take and give (channels, frames), a multiple of PIECE.

        Where the response moves, what is heard passes over in straight lines.
        """
        parts = [self._parts(one) for one in taps.values]
        held = {id(one): (one, part) for one, part in zip(taps.values, parts, strict=True)}
        self._spectra = held
        self._remember(max(map(len, parts)))
        out = np.empty(block.shape, dtype=np.float32)
        at = np.arange(PIECE)
        for first in range(0, block.shape[1], PIECE):
            self._take(block[:, first : first + PIECE])
            if len(parts) == 1:
                heard = self._heard(parts[0])
            else:
                heard = np.zeros_like(self._last)
                for share, part in zip(np.eye(len(parts)), parts, strict=True):
                    line = np.interp(at + first, taps.frames, share)
                    if line.any():
                        heard += self._heard(part) * line
            out[:, first : first + PIECE] = heard
        return out

    def remember(self, others: "Sequence[tuple[FilterWithMemory, int]]") -> None:
        """Take over what others were given: for each channel another filter and its channel."""
        self._last = np.stack([other._last[channel] for other, channel in others])
        most = max(len(other._past) for other, _ in others)
        self._past = np.zeros((most, len(others), PIECE + 1), dtype=np.complex128)
        for own, (other, channel) in enumerate(others):
            self._past[: len(other._past), own] = other._past[:, channel]

    def _parts(self, taps: Taps) -> NDArray[np.complex128]:
        known = self._spectra.get(id(taps))
        if known is not None:
            return known[1]
        filled = np.zeros(-(-len(taps) // PIECE) * PIECE)
        filled[: len(taps)] = taps
        return np.asarray(rfft(filled.reshape(-1, PIECE), 2 * PIECE))

    def _remember(self, count: int) -> None:
        if len(self._past) < count:
            more = np.zeros((count - len(self._past), *self._past.shape[1:]), dtype=np.complex128)
            self._past = np.concatenate([self._past, more])

    def _take(self, piece: Block) -> None:
        now = piece.astype(np.float64)
        self._past = np.roll(self._past, 1, axis=0)
        self._past[0] = rfft(np.concatenate([self._last, now], axis=1))
        self._last = now

    def _heard(self, parts: NDArray[np.complex128]) -> NDArray[np.float64]:
        total = np.einsum("pk,pck->ck", parts, self._past[: len(parts)])
        return np.asarray(irfft(total, 2 * PIECE)[:, PIECE:])
