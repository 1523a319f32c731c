"""Convolution of a stream with fixed responses, in stretches of any length."""

import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft, next_fast_len, rfft

from metaphon.core.process.processor import Block


class Convolver:
    """Every input through its own response to every output, (inputs, outputs, taps), without added latency."""

    def __init__(self, responses: NDArray[np.float32]) -> None:
        self._responses = responses
        self.inputs, self.outputs, self._taps = responses.shape
        self._spectra: dict[int, NDArray[np.complex64]] = {}
        self._carry = np.zeros((self.outputs, self._taps - 1), dtype=np.float32)

    def process(self, block: Block) -> Block:
        """Take (inputs, frames), give (outputs, frames)."""
        frames = block.shape[1]
        size = next_fast_len(frames + self._taps - 1, real=True)
        if size not in self._spectra:
            self._spectra = {size: rfft(self._responses, size).astype(np.complex64)}
        spectra = self._spectra[size]
        total = np.zeros((self.outputs, size // 2 + 1), dtype=np.complex64)
        # inputs that nothing is known of (outputs that no loudspeaker of the room is wired to) are not heard
        for channel, responses in zip(block, spectra, strict=False):
            if channel.any():
                total += rfft(channel, size) * responses
        out = irfft(total, size)[:, : frames + self._taps - 1].astype(np.float32)
        out[:, : self._carry.shape[1]] += self._carry
        self._carry = out[:, frames:].copy()
        return out[:, :frames]
