"""The meters of what is heard: read for the very samples that go out, one reading a step."""

import math
from base64 import b64encode
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.fft import rfft

from metaphon.core.document.targets import Target
from metaphon.core.dsp.block import Block
from metaphon.core.engine.downmix import downmix_matrix
from metaphon.core.measure.correlation import (
    correlation,
    correlations,
    fold_down_losses_db,
    or_none,
)
from metaphon.core.measure.loudness import LoudnessMeter
from metaphon.core.measure.peaks import PeakMeter
from metaphon.core.measure.powers import PIECE, pieces_of, product_of
from metaphon.core.measure.programme import loudspeakers_of
from metaphon.core.measure.thirds import MIDDLES_HZ
from metaphon.core.spatial.chart import on_chart
from metaphon.core.spatial.downmix import PUBLISHED, Shares
from metaphon.core.spatial.layouts import Layout

STEP_FRAMES = PIECE
_WINDOW = 4096
_POINTS = 256  # of the trace of left against right, in each step
_FALL_S = 0.3  # how long correlation and balance look back
_SILENT_DB = -120.0
_MOST_DB = 40.0  # how far a balance or a loss is told
_RANGE_EVERY_S = 0.5  # it moves slowly and costs more than all else
_SLOW_FRAMES = 4096  # how often bands, pairs and the whole are read: no eye follows them faster


class Meters:
    """Levels, loudness, correlation, bands, balance and energy vector, since they were last reset.

    `heard` is the format that is listened to, before any headphones or loudspeakers; `ears` the
    pair made of it.
    """

    def __init__(self, heard: Target, rate_hz: int, shares: Shares = PUBLISHED) -> None:
        self._target = heard
        self._rate_hz = rate_hz
        layout = heard.metering_layout
        self._places = _places(heard.layout) if heard.layout else None
        self._has = np.any(self._places, axis=0).tolist() if self._places is not None else []
        self._decoded, self._weights = loudspeakers_of(heard.channels, layout)
        self._folding = downmix_matrix(heard, shares).astype(np.float32)
        low = heard.layout.is_lfe if heard.layout else (False,) * heard.channels
        # of a scene only W counts: the other channels are no energy of their own
        self._counted = (
            ~np.array(low) if heard.order is None else np.eye(1, heard.channels, dtype=bool)[0]
        )
        self._window = np.hanning(_WINDOW + 1)[:-1].astype(np.float32)
        frequencies = np.fft.rfftfreq(_WINDOW, 1.0 / rate_hz)
        edges = np.array(MIDDLES_HZ)[:, None] * 10.0 ** np.array([-0.05, 0.05])
        first, last = np.searchsorted(frequencies, edges.T)
        self._bands = np.minimum(
            np.stack([first, np.maximum(last, first + 1)], axis=1), len(frequencies)
        )
        self._fall = np.exp(-STEP_FRAMES / rate_hz / _FALL_S)
        self.reset()

    def reset(self) -> None:
        """Begin anew: loudness, holds and overs."""
        channels = self._target.channels
        self._loudness = LoudnessMeter(self._weights, self._rate_hz)
        self._peaks = PeakMeter(channels, self._rate_hz)
        self._overs = np.zeros(channels, dtype=int)
        self._worst: float | None = None
        self._counts = True
        self._range: float | None = None
        self._range_due = self._slow_due = 0  # frames until each is read again
        self._slow: dict[str, Any] = {}
        self._pair = [0.0, 0.0, 0.0]
        self._powers = np.zeros((channels, channels))
        self._past = np.zeros((2 + channels, _WINDOW), dtype=np.float32)
        self._spectra = np.zeros((5, len(MIDDLES_HZ)))

    def read(self, heard: Block, ears: Block, checked: bool = False) -> dict[str, Any]:
        """Take the next stretch; gives its readings, those by step as lists.

        While the pair that is heard is `checked` its correlation is not that of the mix.
        """
        self._counts = not checked
        self._loudness.add(heard if self._decoded is None else self._decoded @ heard)
        pieces = pieces_of(heard)
        self._peaks.add(heard, pieces)
        if pieces.highest.max(initial=0.0) > 1.0:
            self._overs += np.count_nonzero(np.abs(heard) > 1.0, axis=1)
        ears = ears[:2] if len(ears) > 1 else np.repeat(ears, 2, axis=0)
        steps = [
            self._step(heard[:, at : at + STEP_FRAMES], ears[:, at : at + STEP_FRAMES], tops)
            for at, tops in zip(
                range(0, heard.shape[1], STEP_FRAMES), pieces.highest.T, strict=True
            )
        ]
        self._past = np.concatenate([self._past, np.concatenate([ears, heard])], axis=1)[
            :, -_WINDOW:
        ]
        if self._range_due <= 0:
            self._range = _shown(self._loudness.range_lu)
            self._range_due = round(_RANGE_EVERY_S * self._rate_hz)
        if self._slow_due <= 0:
            integrated = _shown(self._loudness.integrated_lufs)
            self._slow = {"integrated": integrated, "matrix": self._matrix(), **self._by_band()}
            self._slow_due = _SLOW_FRAMES
        self._range_due -= heard.shape[1]
        self._slow_due -= heard.shape[1]
        return {
            "steps": steps,
            "hold": _decibels(self._peaks.sample_peak),
            "true_peak": _decibels(self._peaks.true_peak),
            "overs": self._overs.tolist(),
            "momentary": _shown(self._loudness.momentary_now_lufs),
            "short": _shown(self._loudness.short_term_now_lufs),
            "range": self._range,
            "worst": self._worst,
            "energy": self._energy_vector(),
            **self._slow,
        }

    def _step(self, heard: Block, ears: Block, tops: NDArray[np.float32]) -> dict[str, Any]:
        frames = max(heard.shape[1], 1)
        fresh = (1.0 - self._fall) / frames
        products = heard @ heard.T
        self._powers *= self._fall
        self._powers += fresh * products
        left, right = np.ascontiguousarray(ears)
        for n, (one, other) in enumerate(((left, left), (right, right), (left, right))):
            self._pair[n] = self._fall * self._pair[n] + fresh * product_of(one, other)
        alike = correlation(*self._pair)
        if alike is not None:
            alike = round(alike, 3)
            if self._counts:
                self._worst = alike if self._worst is None else min(self._worst, alike)
        every = max(frames // _POINTS, 1)
        return {
            "peak": _decibels(tops),
            "rms": _decibels(np.sqrt(np.diagonal(products) / frames)),
            "correlation": alike,
            "balance": _balance(self._pair[0], self._pair[1]),
            **_trace(ears[:, ::every]),
        }

    def _matrix(self) -> list[list[float | None]]:
        """Correlation of every pair of channels."""
        own = np.diag(self._powers)
        return [_told(row, 2) for row in correlations(own[:, None], own, self._powers)]

    def _energy_vector(self) -> dict[str, float | None] | None:
        """Where the sound appears to come from, with front to height.

        Its length says how sharply: 1 is from one point. Source: Gerzon 1992, General metatheory of
        auditory localisation: r_E = sum of g^2 u over sum of g^2.
        """
        if self._places is None:
            return None
        sums = (np.diagonal(self._powers) @ self._places).tolist()
        x, y, z, ahead, behind, level, high, total = sums
        if total < 1e-12:
            return None
        x, y, z = x / total, y / total, z / total
        length = math.sqrt(x * x + y * y + z * z)
        azimuth = math.degrees(math.atan2(-x, y))
        elevation = math.degrees(math.asin(max(-1.0, min(z / max(length, 1e-9), 1.0))))
        chart = on_chart(azimuth, elevation).tolist()
        return {
            "azimuth_deg": round(azimuth, 1),
            "elevation_deg": round(elevation, 1),
            "x": round(chart[0], 3),
            "y": round(chart[1], 3),
            "length": round(length, 3),
            "front_rear": _balance(ahead, behind) if self._has[3] and self._has[4] else None,
            "level_height": _balance(level, high) if self._has[5] and self._has[6] else None,
        }

    def _by_band(self) -> dict[str, list[float | None]]:
        """Correlation and what fold-downs lose in each third of an octave of the last 4096 samples.

        `loss` is of the pair folded to mono, `loss_stereo` of the format folded to stereo: the
        energy of all its channels but LFE over that of the pair.
        """
        spectra = rfft(self._past * self._window)
        left, right, heard = spectra[0], spectra[1], spectra[2:]
        power = np.stack(
            [
                _squared(left),
                _squared(right),
                left.real * right.real + left.imag * right.imag,
                np.sum(_squared(heard[self._counted]), axis=0),
                np.sum(_squared(self._folding @ heard), axis=0),
            ]
        )
        sums = np.concatenate(
            [np.zeros((5, 1)), np.cumsum(power, axis=1, dtype=np.float64)], axis=1
        )
        now = (sums[:, self._bands[:, 1]] - sums[:, self._bands[:, 0]]) / _WINDOW**2
        self._spectra = 0.5 * self._spectra + 0.5 * now
        whole, pair = self._spectra[3:]
        stereo = 10.0 * np.log10(np.where(whole < 1e-12, np.nan, whole) / np.maximum(pair, 1e-18))
        return {
            "bands": _told(correlations(*self._spectra[:3]), 2),
            "loss": _told(fold_down_losses_db(*self._spectra[:3]), 1),
            "loss_stereo": _told(np.clip(stereo, -_MOST_DB, _MOST_DB), 1),
        }


def _places(layout: Layout) -> NDArray[np.float64]:
    """What each loudspeaker but LFE counts for, (loudspeakers, 8).

    In its direction, x, y and z; in front, behind, at the level of the ears, above; in all.
    """
    counted = ~np.array(layout.is_lfe)
    ahead, high = layout.vectors[:, 1], layout.vectors[:, 2]
    groups = [ahead > 0.01, ahead < -0.01, np.abs(high) < 0.1, high > 0.1, counted]
    found: NDArray[np.float64] = np.column_stack([layout.vectors, *groups]) * counted[:, None]
    return found


def _squared(spectra: NDArray[np.complex64]) -> NDArray[np.float32]:
    return spectra.real**2 + spectra.imag**2


def _told(values: NDArray[np.float64], digits: int) -> list[float | None]:
    return or_none(np.round(values, digits))


def _decibels(values: NDArray[np.floating]) -> list[float]:
    return [
        round(v, 1)
        for v in np.maximum(20.0 * np.log10(np.maximum(values, 1e-9)), _SILENT_DB).tolist()
    ]


def _shown(value: float | None) -> float | None:
    return round(float(value), 1) if value is not None and np.isfinite(value) else None


def _balance(one: float, other: float) -> float | None:
    """How much louder the first is, in dB, held to 40 either way; None in silence."""
    return None if one + other < 1e-12 else _ratio_db(max(one, 1e-12), max(other, 1e-12))


def _ratio_db(one: float, other: float) -> float:
    return round(max(-_MOST_DB, min(10.0 * math.log10(one / max(other, 1e-18)), _MOST_DB)), 1)


def _trace(ears: Block) -> dict[str, Any]:
    """Left against right, packed: the largest value, and pairs of parts of it, 127 at most."""
    top = float(np.abs(ears).max(initial=0.0))
    parts = np.rint(ears.T * (127.0 / max(top, 1e-9))).astype(np.int8)
    return {"top": round(top, 5), "trace": b64encode(parts.tobytes()).decode()}
