"""The shapes that several processors filter by, as sections."""

from functools import lru_cache

import numpy as np

from metaphon.core.dsp.matched import matched
from metaphon.core.dsp.sections import Sections, as_sections


@lru_cache(4096)
def low_cut(corner_hz: float, slope_db: int, rate_hz: int) -> Sections:
    """A Butterworth low-cut, 3 dB down at its corner, by the bilinear transform.

    Parameters
    ----------
    corner_hz
        Where it is 3 dB down.
    slope_db
        In dB per octave, 6 an order.
    rate_hz
        Of the sound.

    Returns
    -------
        (sections, 5).
    """
    g = np.tan(np.pi * min(corner_hz, 0.49 * rate_hz) / rate_hz)
    order = slope_db // 6
    found = [(g, k, 1.0, 0.0, 0.0) for k in _pairs(order)]
    if order % 2:
        found.append((g, 2.0, 1.0, 1.0, 0.0))  # one pole: the other is met by a zero
    return np.array(found)


def _pairs(order: int) -> list[float]:
    """1 / Q of each pair of poles, evenly round the circle; where the order is odd one is alone."""
    return [float(2.0 * np.sin(np.pi * (i + 0.5) / order)) for i in range(order // 2)]


@lru_cache(4096)
def high_cut(corner_hz: float, slope_db: int, rate_hz: int) -> Sections:
    """A Butterworth high-cut, 3 dB down at its corner, matched to the analogue one.

    As `low_cut`.
    """
    order, turn = slope_db // 6, 2.0 * np.pi * corner_hz / rate_hz
    found = [matched((0.0, 0.0, 1.0), (1.0, k, 1.0), turn) for k in _pairs(order)]
    if order % 2:
        found.append(matched((0.0, 1.0, 1.0), (1.0, 2.0, 1.0), turn))
    return np.concatenate(found)


@lru_cache(4096)
def band_alone(frequency_hz: float, q: float, rate_hz: int) -> Sections:
    """A band-pass with 0 dB at its centre and the width of the analogue one.

    Source: Audio EQ Cookbook (W3C note 2021), the band-pass by its bandwidth in octaves.
    """
    turn = 2 * np.pi * min(frequency_hz, 0.49 * rate_hz) / rate_hz
    octaves = 2.0 / np.log(2.0) * np.arcsinh(0.5 / q)
    alpha = np.sin(turn) * np.sinh(min(np.log(2.0) / 2.0 * octaves * turn / np.sin(turn), 30.0))
    b, a = [alpha, 0.0, -alpha], [1.0 + alpha, -2.0 * np.cos(turn), 1.0 - alpha]
    return as_sections(b, a)
