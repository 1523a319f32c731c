"""The shortest response of a given level at every frequency."""

from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft, rfft


def minimum_phase_spectrum(log_level: NDArray[np.floating], size: int) -> NDArray[Any]:
    """The minimum-phase spectrum of a level.

    Parameters
    ----------
    log_level
        Natural logarithms of level, (..., size // 2 + 1).
    size
        Of the FFT.

    Returns
    -------
        The complex spectrum, (..., size // 2 + 1).

    References
    ----------
        A. V. Oppenheim & R. W. Schafer, Discrete-time signal processing, section 13.5 (folding of
        the cepstrum).
    """
    cepstrum = irfft(log_level, size)
    cepstrum[..., 1 : size // 2] *= 2.0
    cepstrum[..., size // 2 + 1 :] = 0.0
    result: NDArray[Any] = np.exp(rfft(cepstrum))
    return result
