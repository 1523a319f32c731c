"""All meters of one programme together, as `measure` and every render report them."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from metaphon.core.measure.correlation import CorrelationMeter
from metaphon.core.measure.loudness import LoudnessMeter, channel_weights
from metaphon.core.measure.peaks import PeakMeter, decibels
from metaphon.core.measure.powers import Pieces, pieces_of
from metaphon.core.spatial.ambisonics import order_of
from metaphon.core.spatial.decoding import decode_matrix
from metaphon.core.spatial.layouts import LAYOUTS, Layout

_SCENES_ON = "4+7+0"


@dataclass(frozen=True)
class Figures:
    """What was measured of a programme.

    None where there was too little sound, or not two channels.
    """

    duration_s: float
    sample_rate_hz: int
    channels: int
    integrated_lufs: float | None
    max_momentary_lufs: float | None
    max_short_term_lufs: float | None
    loudness_range_lu: float | None
    true_peak_dbtp: float | None
    sample_peak_dbfs: float | None
    correlation: float | None
    fold_down_loss_db: float | None
    dc_offset: float
    near_full_scale_samples: int


@dataclass(frozen=True)
class History:
    """The same programme ten times a second.

    Momentary and short-term loudness, correlation (two channels only).
    """

    momentary_lufs: list[float | None]
    short_term_lufs: list[float | None]
    correlation: list[float | None]


def loudspeakers_of(
    channels: int, layout: Layout | None
) -> tuple[NDArray[np.float32] | None, NDArray[np.float64]]:
    """How channels are played to find their loudness, and the weights of what is then played.

    Loudspeakers are as they are: no matrix. A scene is decoded (AllRAD) to 7.1.4.
    """
    if layout:
        return None, channel_weights(layout)
    played = LAYOUTS[_SCENES_ON]
    return decode_matrix(order_of(channels), played).astype(np.float32), channel_weights(played)


class ProgrammeMeter:
    """Measures a programme block by block.

    Without a layout it is an ambisonic scene, whose loudness is that of its playing on 7.1.4.
    """

    def __init__(self, channels: int, rate_hz: int, layout: Layout | None = None) -> None:
        self._decoded, weights = loudspeakers_of(channels, layout)
        self._channels = channels
        self._rate_hz = rate_hz
        self._frames = 0
        self._sum = np.zeros(channels)
        self._loudness = LoudnessMeter(weights, rate_hz)
        self._peaks = PeakMeter(channels, rate_hz)
        self._pair = CorrelationMeter(rate_hz) if channels == 2 else None

    def add(self, block: NDArray[np.float32]) -> Pieces:
        """Take the next block, (channels, frames); gives what it looks at once for all meters."""
        pieces = pieces_of(block)
        self._frames += block.shape[1]
        self._sum += pieces.sums.sum(axis=1)
        heard = block if self._decoded is None else self._decoded @ block
        self._loudness.add(heard)
        self._peaks.add(block, pieces)
        if self._pair:
            self._pair.add(block[0], block[1])
        return pieces

    def finish(self) -> Figures:
        """Close the windows that are still open and give the figures of the whole."""
        self._peaks.finish()
        if self._pair:
            self._pair.finish()
        return Figures(
            duration_s=self._frames / self._rate_hz,
            sample_rate_hz=self._rate_hz,
            channels=self._channels,
            integrated_lufs=self._loudness.integrated_lufs,
            max_momentary_lufs=_told(self._loudness.highest_momentary_lufs),
            max_short_term_lufs=_told(self._loudness.highest_short_term_lufs),
            loudness_range_lu=self._loudness.range_lu,
            true_peak_dbtp=decibels(float(self._peaks.true_peak.max(initial=0.0))),
            sample_peak_dbfs=decibels(float(self._peaks.sample_peak.max(initial=0.0))),
            correlation=self._pair.overall if self._pair else None,
            fold_down_loss_db=self._pair.loss_db if self._pair else None,
            near_full_scale_samples=self._peaks.near_full_scale,
            dc_offset=float(np.max(np.abs(self._sum / max(self._frames, 1)), initial=0.0)),
        )

    @property
    def history(self) -> History:
        """How loudness and correlation went over time."""
        return History(
            momentary_lufs=_finite(self._loudness.momentary_lufs),
            short_term_lufs=_finite(self._loudness.short_term_lufs),
            correlation=self._pair.over_time if self._pair else [],
        )


def _told(lufs: float) -> float | None:
    return lufs if np.isfinite(lufs) else None


def _finite(values: NDArray[np.float64]) -> list[float | None]:
    return [round(float(v), 2) if np.isfinite(v) else None for v in values]
