"""Convolution of a stream with fixed responses, in blocks of any length and without added latency.

Each block is one part of the input, convolved whole; what reaches over its end is kept for the next
(Oppenheim & Schafer, section 8.7.3).
"""

import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft, next_fast_len, rfft

from metaphon.core.dsp.block import Block


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


class ChannelFilter:
    """Every channel through one and the same response, in double precision.

    Parameters
    ----------
    taps : array of shape (taps,)
        The response.
    channels : int
        How many channels its blocks have.
    """

    def __init__(self, taps: NDArray[np.float64], channels: int) -> None:
        self._taps = taps
        self._spectra: dict[int, NDArray[np.complex128]] = {}
        self._carry = np.zeros((channels, len(taps) - 1))

    def process(self, block: Block) -> Block:
        """Take and give (channels, frames)."""
        frames = block.shape[1]
        size = next_fast_len(frames + len(self._taps) - 1, real=True)
        if size not in self._spectra:
            self._spectra = {size: rfft(self._taps, size)}
        sound = rfft(block.astype(np.float64), size) * self._spectra[size]
        full = irfft(sound, size)[:, : frames + len(self._taps) - 1]
        full[:, : self._carry.shape[1]] += self._carry
        self._carry = full[:, frames:].copy()
        return np.asarray(full[:, :frames].astype(np.float32))
