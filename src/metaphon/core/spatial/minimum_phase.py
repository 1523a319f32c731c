"""The shortest response of a given level at every frequency."""

from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft, rfft


def minimum_phase_spectrum(log_level: NDArray[np.floating], size: int) -> NDArray[Any]:
    """The minimum-phase spectrum, (..., size // 2 + 1).

    Of natural logarithms of level over an FFT of `size`.

    Source: Oppenheim & Schafer, section 13.5 (folding of the cepstrum).
    """
    cepstrum = irfft(log_level, size)
    cepstrum[..., 1 : size // 2] *= 2.0
    cepstrum[..., size // 2 + 1 :] = 0.0
    result: NDArray[Any] = np.exp(rfft(cepstrum))
    return result
