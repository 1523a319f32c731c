"""The axis of frequencies that the drawings of Coherence share: 20 Hz to 20 kHz, logarithmic."""

import numpy as np
from numpy.typing import NDArray

WIDE, HIGH = 800.0, 150.0
_LOWEST_HZ, _DECADES = 20.0, 3.0
_MARKED_HZ = (50, 100, 200, 500, 1000, 2000, 5000, 10000)


def place_of(frequency_hz: float) -> float:
    """Where a frequency lies."""
    return round(float(np.log10(frequency_hz / _LOWEST_HZ) / _DECADES * WIDE), 1)


def ticks() -> list[tuple[int, float]]:
    """The frequencies that are marked, and where."""
    return [(hz, place_of(hz)) for hz in _MARKED_HZ]


def path_over(at_hz: NDArray[np.float64], heights: NDArray[np.float64]) -> str:
    """A path through heights at frequencies."""
    across = np.log10(at_hz / _LOWEST_HZ) / _DECADES * WIDE
    return "M" + " ".join(f"{x:.1f} {y:.1f}" for x, y in zip(across, heights, strict=True))
