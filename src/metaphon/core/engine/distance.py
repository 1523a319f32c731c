"""What the distance of an object does to its sound, as it moves.

Level, air, and the time it travels.
"""

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft, next_fast_len, rfft, rfftfreq

from metaphon.core.document.mix import Placement
from metaphon.core.dsp.block import Block
from metaphon.core.dsp.overlap_add import OverlapAdd
from metaphon.core.engine.automation import GRID_FRAMES, RAMP, grid_times, line
from metaphon.core.engine.object_panning import ObjectPosition
from metaphon.core.spatial.air import SPEED_OF_SOUND_M_S, air_absorption_db_per_m, level_at
from metaphon.core.spatial.minimum_phase import minimum_phase_spectrum

_AIR_TAPS = 256
_SIZE = next_fast_len(GRID_FRAMES + _AIR_TAPS - 1, real=True)
_STEPS_A_DOUBLING = 48
_SINC_TAPS = 16
_SINC_FRACTIONS = 512


@dataclass(frozen=True)
class DistanceEffect:
    """An object whose distance is heard."""

    where: ObjectPosition

    @property
    def longest_m(self) -> float:
        """The farthest it ever is, in metres; a room ends at its walls, at distance 1."""
        in_room = self.where.placement.coordinates == "cube"
        return (
            1.0 if in_room else float(self.where.position[2].values.max())
        ) * self.where.placement.sphere_m

    @property
    def tail_s(self) -> float:
        """How long its sound may come late."""
        travels = self.longest_m / SPEED_OF_SOUND_M_S if self.where.placement.travel else 0.0
        return travels + _AIR_TAPS / 44100.0


def distance_effect(where: ObjectPosition) -> DistanceEffect | None:
    """What distance does to an object; None where it does nothing."""
    return DistanceEffect(where) if distance_is_heard(where.placement) else None


def distance_is_heard(place: Placement) -> bool:
    """Whether an object's distance changes its sound."""
    return place.level_db_per_doubling > 0.0 or place.air or place.travel


class DistanceRun:
    """Distance at work.

    Everything is exact on the grid and straight in between, so block size changes nothing.
    """

    def __init__(self, away: DistanceEffect, channels: int, rate_hz: int) -> None:
        self._where = away.where
        self._place = away.where.placement
        self._rate_hz = rate_hz
        self._overlap_add = OverlapAdd(channels, _SIZE, GRID_FRAMES)
        late = (
            int(np.ceil(away.longest_m / SPEED_OF_SOUND_M_S * rate_hz)) if self._place.travel else 0
        )
        self._past = np.zeros((channels, late + 2 * _SINC_TAPS), dtype=np.float32)

    def process(self, block: Block, at: int) -> Block:
        """Take and give (channels, frames) that begin at a grid point of the mix."""
        distance = self._where.on_sphere_at(grid_times(at, block.shape[1], self._rate_hz))[2]
        if self._place.level_db_per_doubling > 0.0:
            block = block * line(level_at(distance, self._place.level_db_per_doubling))
        if self._place.air:
            block = self._through_air(block, distance * self._place.sphere_m)
        if self._place.travel:
            block = self._travelled(
                block, distance * self._place.sphere_m / SPEED_OF_SOUND_M_S * self._rate_hz
            )
        return block

    def _through_air(self, block: Block, metres: NDArray[np.float64]) -> Block:
        pieces = block.reshape(len(block), -1, GRID_FRAMES)
        rising = pieces * RAMP
        steps = np.round(np.log2(np.maximum(metres, 0.05)) * _STEPS_A_DOUBLING).astype(int)
        filters = np.stack([_air_filter(int(step), self._rate_hz) for step in steps])
        heard = irfft(
            rfft(pieces - rising, _SIZE) * filters[:-1] + rfft(rising, _SIZE) * filters[1:], _SIZE
        )
        return self._overlap_add.add(heard)

    def _travelled(self, block: Block, late: NDArray[np.float64]) -> Block:
        frames = block.shape[1]
        joined = np.concatenate([self._past, block], axis=1)
        self._past = joined[:, frames:]
        delay = np.maximum(line(late, np.float64), _SINC_TAPS / 2)
        place = np.arange(frames) + joined.shape[1] - frames - delay
        whole = np.floor(place).astype(int)
        kernel = _sinc_table()[np.round((place - whole) * _SINC_FRACTIONS).astype(int)]
        taps = whole[:, None] + np.arange(1 - _SINC_TAPS // 2, _SINC_TAPS // 2 + 1)
        result: Block = np.einsum("cft,ft->cf", joined[:, taps], kernel).astype(np.float32)
        return result


@lru_cache(maxsize=1)
def _sinc_table() -> NDArray[np.float32]:
    """Kernels that read between samples, (fractions + 1, taps): sinc under a Kaiser window."""
    fractions = np.arange(_SINC_FRACTIONS + 1)[:, None] / _SINC_FRACTIONS
    place = np.arange(1 - _SINC_TAPS // 2, _SINC_TAPS // 2 + 1) - fractions
    window = np.i0(
        8.0 * np.sqrt(np.maximum(1.0 - (place / (_SINC_TAPS / 2 + 0.5)) ** 2, 0.0))
    ) / np.i0(8.0)
    table = np.sinc(place) * window
    result: NDArray[np.float32] = (table / table.sum(axis=1, keepdims=True)).astype(np.float32)
    return result


@lru_cache(maxsize=512)
def _air_filter(step: int, rate_hz: int) -> NDArray[np.complex64]:
    """The spectrum of so much air, as short as it can be."""
    size = 8 * _AIR_TAPS
    metres = 2.0 ** (step / _STEPS_A_DOUBLING)
    level = -air_absorption_db_per_m(rfftfreq(size, 1.0 / rate_hz)) * metres / 20.0 * np.log(10.0)
    shortest = minimum_phase_spectrum(np.maximum(level, -12.0), size)
    result: NDArray[np.complex64] = rfft(irfft(shortest, size)[:_AIR_TAPS], _SIZE).astype(
        np.complex64
    )
    return result
