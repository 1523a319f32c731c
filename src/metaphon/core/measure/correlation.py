"""How alike two channels are, and what is lost when they are added."""

import numba
import numpy as np
from numpy.typing import NDArray

from metaphon.core.measure.powers import product_of

WINDOW_S = 0.1
LARGEST_LOSS_DB = 120.0
_SILENCE = 1e-14  # mean power below which a window holds no sound, -140 dBFS


Powers = NDArray[np.float64]


def or_none(values: NDArray[np.float64]) -> list[float | None]:
    """A list of values, (count), with None for what is not a number."""
    return [None if value != value else value for value in values.tolist()]


def correlations(left_power: Powers, right_power: Powers, product: Powers) -> NDArray[np.float64]:
    """Normalised product of pairs of channels, -1 to 1, from their mean powers, of any shape.

    NaN where one is silent.
    """
    sounds = np.minimum(left_power, right_power) >= _SILENCE
    level = np.sqrt(np.where(sounds, left_power * right_power, np.nan))
    return np.clip(product / level, -1.0, 1.0)


def correlation(left_power: float, right_power: float, product: float) -> float | None:
    """Normalised product of two channels, -1 to 1, from their mean powers.

    None where either is silent.
    """
    return or_none(correlations(*np.array([[left_power], [right_power], [product]])))[0]


def fold_down_losses_db(
    left_power: Powers, right_power: Powers, product: Powers
) -> NDArray[np.float64]:
    """How much quieter the sum of two channels is than if both were alike.

    Parameters
    ----------
    left_power, right_power, product
        Mean powers of the two and their mean product, of any one shape.

    Returns
    -------
        10 log10(2 (Pl + Pr) / P(l + r)) in dB: 0 for two equal channels, 3.01 for unrelated ones,
        LARGEST_LOSS_DB where they cancel, NaN in silence. Derived.

    Examples
    --------
    >>> one = np.ones(2)
    >>> fold_down_losses_db(one, one, np.array([1.0, 0.0])).round(2)
    array([0.  , 3.01])
    """
    apart = left_power + right_power
    apart = np.where(apart >= _SILENCE, apart, np.nan)
    floor = 2.0 * apart * 10.0 ** (-LARGEST_LOSS_DB / 10.0)
    result: NDArray[np.float64] = 10.0 * np.log10(
        2.0 * apart / np.maximum(apart + 2.0 * product, floor)
    )
    return result


def fold_down_loss_db(left_power: float, right_power: float, product: float) -> float | None:
    """The fold-down loss of one pair; None in silence."""
    return or_none(fold_down_losses_db(*np.array([[left_power], [right_power], [product]])))[0]


def of_pair(powers: NDArray[np.float64]) -> tuple[float | None, float | None]:
    """Correlation and fold-down loss of a pair.

    Parameters
    ----------
    powers
        Its mean products, (2, 2); after a matrix M they are M P M^T.

    Returns
    -------
        Correlation -1 to 1 and loss in dB; None where a side, or both, are silent.
    """
    left, right, cross = float(powers[0, 0]), float(powers[1, 1]), float(powers[0, 1])
    return correlation(left, right, cross), fold_down_loss_db(left, right, cross)


class CorrelationMeter:
    """Correlation and fold-down loss of a pair, overall and for every 100 ms.

    Fed block by block.
    """

    def __init__(self, rate_hz: int) -> None:
        self._hop = round(WINDOW_S * rate_hz)
        self._open = np.zeros(3)  # of the window that is not over
        self._filled = 0
        self._sums: list[NDArray[np.float64]] = []

    def add(self, left: NDArray[np.float32], right: NDArray[np.float32]) -> None:
        """Take the next stretch of both channels, (frames) each."""
        done = np.zeros(((self._filled + len(left)) // self._hop, 4))
        done[:, 3] = self._hop
        _add_up(left, right, self._open, self._filled, self._hop, done)
        self._filled = (self._filled + len(left)) % self._hop
        self._sums.append(done)

    def finish(self) -> None:
        """Count the last, shorter window."""
        if self._filled:
            self._sums.append(np.append(self._open, self._filled)[None])
        self._open[:], self._filled = 0.0, 0

    @property
    def _windows(self) -> NDArray[np.float64]:
        """The sums of squares and products of every window and its length, (windows, 4)."""
        return np.concatenate([np.zeros((0, 4)), *self._sums])

    @property
    def _means(self) -> tuple[float, float, float]:
        total = self._windows.sum(axis=0)
        left, right, product = total[:3] / max(total[3], 1.0)
        return left, right, product

    @property
    def overall(self) -> float | None:
        """The correlation of all that was given; None for silence."""
        return correlation(*self._means)

    @property
    def loss_db(self) -> float | None:
        """What folding all of it down to mono loses, in dB; None for silence."""
        return fold_down_loss_db(*self._means)

    @property
    def over_time(self) -> list[float | None]:
        """Correlation of each window; None where a channel is silent."""
        sums = self._windows.T
        return or_none(correlations(*(sums[:3] / sums[3])))


@numba.njit(cache=True, nogil=True)
def _add_up(left, right, running, filled, hop, done):  # type: ignore[no-untyped-def]
    """Squares and products window by window into `done`, (windows, 4); the open sums go on."""
    start = window = 0
    while start < len(left):
        stop = min(start + hop - filled, len(left))
        one, two = left[start:stop], right[start:stop]
        running[0] += product_of(one, one)
        running[1] += product_of(two, two)
        running[2] += product_of(one, two)
        filled += stop - start
        start = stop
        if filled == hop:
            done[window, :3] = running
            running[:] = 0.0
            window, filled = window + 1, 0
