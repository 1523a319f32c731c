"""The first reflections of a box-shaped room, each from its own direction."""

from functools import lru_cache
from typing import NamedTuple

import numba
import numpy as np
from numpy.typing import NDArray

from metaphon.core.dsp.block import Block
from metaphon.core.dsp.motion import Motion
from metaphon.core.dsp.past import Past
from metaphon.core.process.channel_shares import channel_shares
from metaphon.core.process.processor import Channels
from metaphon.core.spatial.air import SPEED_OF_SOUND_M_S
from metaphon.core.spatial.directions import unit_vectors
from metaphon.core.spatial.image_sources import images_of

_ROOM_M = np.array([8.4, 6.1, 3.7])  # at size 1
_LISTENER = np.array([0.47, 0.42, 0.41])  # parts of it
_SOURCE_M = 2.1  # before the listener, at size 1
_ORDER = 2
_KEPT_OF_A_WALL = 0.84  # of the amplitude, and no wall like another
_UNLIKE = 1.0 + 0.06 * np.array([1, -2, 2, -1, -3, 3])


class _Taps(NamedTuple):
    """When each channel's reflections come, and what they give to each output.

    (inputs, taps) and (inputs, taps, outputs).
    """

    delays: NDArray[np.int64]
    gains: NDArray[np.float32]


class EarlyReflections:
    """Every channel's reflections up to the second order, by geometry, with its own energy.

    Where the size changes, the old reflections pass over to the new.
    """

    def __init__(self, channels: Channels, rate_hz: int) -> None:
        self._channels = channels
        self._rate_hz = rate_hz
        self._longest = longest_samples(rate_hz)
        self._past = Past(channels.count, self._longest)

    def process(self, source: Block, size: Motion[float], level: Motion[float]) -> Block:
        """Take and give (channels, frames); `level` is an amplitude."""
        out = np.zeros(source.shape, dtype=np.float32)
        line = level.line(source.shape[1]).astype(np.float32)
        if not line.any():
            self._past.pass_by(source)
            return out
        joined = self._past.joined(source, self._longest)
        if size.moves:
            along = np.linspace(0.0, 1.0, source.shape[1], dtype=np.float32)
            _reflect(joined, out, *self._taps(size.values[0]), line * (1.0 - along))
            line = line * along
        _reflect(joined, out, *self._taps(size.values[-1]), line)
        return out

    def _taps(self, size: float) -> _Taps:
        return _taps(self._channels, size, self._rate_hz)


def longest_samples(rate_hz: int, size: float = 3.0) -> int:
    """When the last reflection comes after the sound itself, at a size."""
    return int(
        np.ceil(np.linalg.norm(_ROOM_M * size) * (_ORDER + 1) / SPEED_OF_SOUND_M_S * rate_hz)
    )


@lru_cache(64)
def _taps(channels: Channels, size: float, rate_hz: int) -> _Taps:
    room = _ROOM_M * size
    listener = _LISTENER * room
    delays, gains = [], []
    for azimuth_deg, elevation_deg in _sources(channels):
        place = listener + _SOURCE_M * size * unit_vectors(azimuth_deg, elevation_deg)
        place = np.clip(place, 0.05 * room, 0.95 * room)
        found = images_of(room, place, listener, _ORDER)
        away = np.linalg.norm(found.away_m, axis=1)
        walls = np.prod((_KEPT_OF_A_WALL * _UNLIKE) ** found.hits, axis=1)
        level = (walls / away)[1:]  # without the sound itself
        delays.append(
            np.round((away[1:] - away[0]) / SPEED_OF_SOUND_M_S * rate_hz).astype(np.int64)
        )
        into = channel_shares(channels, found.away_m[1:])
        gains.append((into.T * level / np.sqrt(np.sum(level**2))).T)
    return _Taps(np.stack(delays), np.stack(gains).astype(np.float32))


def _sources(channels: Channels) -> list[tuple[float, float]]:
    """Where each channel's sound stands; a scene's omni, and what has no place, in front."""
    if channels.order is not None:
        return [(0.0, 0.0)]
    return list(channels.angles_deg) or [(0.0, 0.0)] * channels.count


@numba.njit(cache=True, nogil=True, fastmath={"contract"})
def _reflect(joined, out, delays, gains, line):  # type: ignore[no-untyped-def]
    """Add to `out`, (outputs, frames), each tap of each input of `joined`, (inputs, past + frames).

    `line` is how much of it is heard at each frame.
    """
    frames = out.shape[1]
    begin = joined.shape[1] - frames
    for c in range(len(delays)):
        if not joined[c].any():
            continue
        for t in range(delays.shape[1]):
            sound = joined[c, begin - delays[c, t] : begin - delays[c, t] + frames]
            for j in range(len(out)):
                gain = gains[c, t, j]
                if abs(gain) > 1e-4:
                    into = out[j]
                    for i in range(frames):
                        into[i] += sound[i] * gain * line[i]
