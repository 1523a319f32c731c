"""What a processor takes and gives by frequency, for the stretch that goes out."""

import numpy as np
from numpy.typing import NDArray
from scipy.fft import rfft, rfftfreq

from metaphon.core.dsp.block import Block

BANDS = 160  # from LOWEST_HZ on, three decades
LOWEST_HZ = 20.0
_WINDOW = 8192
_FLOOR_DB = -120.0
_FALL = 0.6  # of what was, in each stretch


class ChainSpectrum:
    """Levels by band before and after a processor, a sine of full scale at 0 dB."""

    def __init__(self, rate_hz: int) -> None:
        self._window = np.hanning(_WINDOW + 1)[:-1].astype(np.float32)
        self._hertz = rfftfreq(_WINDOW, 1.0 / rate_hz)
        self._edges = LOWEST_HZ * 1000.0 ** (np.arange(BANDS + 1) / BANDS)
        self._past: list[Block | None] = [None, None]
        self._power = np.zeros((2, BANDS))

    def read(self, before: Block, after: Block) -> dict[str, list[float]]:
        """Take the next stretch of both; gives dB by band, the sum of their channels."""
        now = np.stack([self._banded(side, block) for side, block in enumerate((before, after))])
        self._power = np.maximum(now, _FALL * self._power)
        level = 10.0 * np.log10(np.maximum(self._power, 10.0 ** (_FLOOR_DB / 10.0)))
        return {"before": level[0].round(1).tolist(), "after": level[1].round(1).tolist()}

    def _banded(self, side: int, block: Block) -> NDArray[np.float64]:
        past = self._past[side]
        if past is None or len(past) != len(block):
            past = np.zeros((len(block), _WINDOW), dtype=np.float32)
        past = self._past[side] = np.concatenate([past, block], axis=1)[:, -_WINDOW:]
        spectra = rfft(past * self._window)
        power = np.sum(spectra.real**2 + spectra.imag**2, axis=0).astype(np.float64)
        power *= (2.0 / float(self._window.sum())) ** 2
        # the loudest in each band; where a band holds none of the frequencies, in between
        first = np.searchsorted(self._hertz, self._edges)
        middle = np.sqrt(self._edges[1:] * self._edges[:-1])
        found: NDArray[np.float64] = np.interp(middle, self._hertz, power)
        full = first[1:] > first[:-1]
        found[full] = np.maximum.reduceat(power[: first[-1]], first[:-1][full])
        return found
