"""What the distance of an object does to its sound, as it moves.

Level, air, and the time it travels.
"""

from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft, next_fast_len, rfft, rfftfreq

from metaphon.core.document.mix import Placement
from metaphon.core.document.value_paths import highest
from metaphon.core.dsp.block import Block
from metaphon.core.dsp.fractional_delay import HALF, FractionalDelay
from metaphon.core.dsp.motion import Motion
from metaphon.core.dsp.overlap_add import OverlapAdd
from metaphon.core.engine.automation import GRID_FRAMES, Frames, knots
from metaphon.core.engine.object_panning import ObjectPosition
from metaphon.core.spatial.air import SPEED_OF_SOUND_M_S, air_absorption_db_per_m, level_at
from metaphon.core.spatial.minimum_phase import minimum_phase_spectrum

_AIR_TAPS = 256
_SIZE = next_fast_len(GRID_FRAMES + _AIR_TAPS - 1, real=True)
_STEPS_A_DOUBLING = 48
_NO_AIR = -10_000  # a step so small that the filter passes everything
_STEP = 256  # frames from one look at a distance to the next
_GOING_BACK = 8  # rounds; each divides what is wrong by the speed of sound over that of the source
_RAMP = (np.arange(GRID_FRAMES) / GRID_FRAMES).astype(np.float32)


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

    def metres(self, frames: NDArray[Any], rate_hz: int) -> NDArray[np.float64]:
        """How far it is at frames of the mix, or between them."""
        distance: NDArray[np.float64] = self.where.on_sphere_at(frames / rate_hz)[2]
        return distance * self.where.placement.sphere_m

    def gains_and_delays(
        self, frames: Frames, rate_hz: int
    ) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Its level as an amplitude, and how late it is in samples, at frames of the mix.

        What arrives now has left where the source was then: the delay is that of the distance at
        emission, found by going back from the distance now (Doppler ratio 1 / (1 + v / c)).
        """
        place = self.where.placement
        gains, delays = np.ones(len(frames)), np.zeros(len(frames))
        distance = self.metres(frames, rate_hz) / place.sphere_m
        if place.travel:
            left = frames.astype(np.float64)
            for _ in range(_GOING_BACK):
                left = frames - self.metres(left, rate_hz) / SPEED_OF_SOUND_M_S * rate_hz
            delays = np.maximum(frames - left, float(HALF))
            distance = self.metres(left, rate_hz) / place.sphere_m
        if place.level_db_per_doubling > 0.0:
            gains = level_at(distance, place.level_db_per_doubling)
        return gains, delays

    def air_steps(self, frames: Frames, rate_hz: int) -> NDArray[np.int64]:
        """Which filter of air it passes through at frames of the mix."""
        if not self.where.placement.air:
            return np.full(len(frames), _NO_AIR)
        metres = np.maximum(self.metres(frames, rate_hz), 0.05)
        return np.round(np.log2(metres) * _STEPS_A_DOUBLING).astype(np.int64)

    @property
    def tail_s(self) -> float:
        """How long its sound may come late."""
        travels = self.longest_m / SPEED_OF_SOUND_M_S if self.where.placement.travel else 0.0
        return travels + _AIR_TAPS / 44100.0


def _farthest_m() -> float:
    """How far any object can be."""
    return highest(Placement, "distance") * highest(Placement, "sphere_m")


def distance_effect(where: ObjectPosition) -> DistanceEffect | None:
    """What distance does to an object; None where it does nothing."""
    return DistanceEffect(where) if distance_is_heard(where.placement) else None


def distance_is_heard(place: Placement) -> bool:
    """Whether an object's distance changes its sound."""
    return place.level_db_per_doubling > 0.0 or place.air or place.travel


class DistanceRun:
    """Distance at work, with the sound that is on its way."""

    def __init__(self, away: DistanceEffect, channels: int, rate_hz: int) -> None:
        self._away = away
        self._before: DistanceEffect | None = None
        self._rate_hz = rate_hz
        self._overlap_add = OverlapAdd(channels, _SIZE, GRID_FRAMES)
        self._way = FractionalDelay(channels, _farthest_m() / SPEED_OF_SOUND_M_S * rate_hz)

    def adopt(self, away: DistanceEffect) -> None:
        """Go on by another way; the sound passes over within the next piece."""
        self._before = self._before or self._away
        self._away = away

    def process(self, block: Block, at: int) -> Block:
        """Take and give (channels, frames) that begin at a grid point of the mix."""
        if self._before is not None and block.shape[1] > GRID_FRAMES:
            pieces = np.split(block, [GRID_FRAMES], axis=1)
            return np.concatenate(
                [self.process(pieces[0], at), self.process(pieces[1], at + GRID_FRAMES)], axis=1
            )
        points = self._points(at, block.shape[1])
        grid = np.arange(at, at + block.shape[1] + 1, GRID_FRAMES)
        gains, delays = self._away.gains_and_delays(points, self._rate_hz)
        air = self._away.air_steps(grid, self._rate_hz)
        if self._before is not None:
            begin = np.array([at])
            old_gain, old_delay = self._before.gains_and_delays(begin, self._rate_hz)
            points = np.array([at, at + GRID_FRAMES])
            gains, delays = (
                np.array([old[0], new[-1]]) for old, new in ((old_gain, gains), (old_delay, delays))
            )
            air[0] = self._before.air_steps(begin, self._rate_hz)[0]
            self._before = None
        frames = points - at
        if not np.all(gains == 1.0):
            line = np.interp(np.arange(block.shape[1]), frames, gains)
            block = block * line.astype(np.float32)
        block = self._through_air(block, air)
        moving = Motion(tuple(frames.tolist()), tuple(delays.tolist()))
        return self._way.process(block, moving.map(float))

    def _points(self, at: int, frames: int) -> Frames:
        return knots(self._away.where.position, at, frames, self._rate_hz, _STEP)

    def _through_air(self, block: Block, steps: NDArray[np.int64]) -> Block:
        if np.all(steps == _NO_AIR) and not self._overlap_add.rings:
            return block
        pieces = block.reshape(len(block), -1, GRID_FRAMES)
        rising = pieces * _RAMP
        filters = np.stack([_air_filter(int(step), self._rate_hz) for step in steps])
        heard = irfft(
            rfft(pieces - rising, _SIZE) * filters[:-1] + rfft(rising, _SIZE) * filters[1:], _SIZE
        )
        return self._overlap_add.add(heard)


@lru_cache(maxsize=512)
def _air_filter(step: int, rate_hz: int) -> NDArray[np.complex64]:
    """The spectrum of so much air, as short as it can be."""
    size = 8 * _AIR_TAPS
    metres = 2.0 ** (step / _STEPS_A_DOUBLING) if step != _NO_AIR else 0.0
    level = -air_absorption_db_per_m(rfftfreq(size, 1.0 / rate_hz)) * metres / 20.0 * np.log(10.0)
    shortest = minimum_phase_spectrum(np.maximum(level, -12.0), size)
    result: NDArray[np.complex64] = rfft(irfft(shortest, size)[:_AIR_TAPS], _SIZE).astype(
        np.complex64
    )
    return result
