"""First reflections of an object in a room, each from its own direction, as the object moves.

A strip of its own in the plan: the object's sound enters it, an ambisonic scene comes out.
"""

from functools import lru_cache
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from metaphon.core.document.mix import Placement
from metaphon.core.document.positions import FORMS
from metaphon.core.document.value_paths import highest
from metaphon.core.dsp.block import Block
from metaphon.core.dsp.fractional_delay import HALF, FractionalDelay
from metaphon.core.dsp.motion import Motion, add_mixed
from metaphon.core.process.processor import Channels, Processor, Running
from metaphon.core.spatial.air import SPEED_OF_SOUND_M_S, level_at
from metaphon.core.spatial.ambisonics import channels_of, encode
from metaphon.core.spatial.directions import angles_of, unit_vectors
from metaphon.core.spatial.image_sources import images_of
from metaphon.core.spatial.room_cube import REFERENCES, to_sphere

ORDER = 3
CHANNELS = channels_of(ORDER)
MOVING = (*FORMS["sphere"][:3], *FORMS["cube"][:3])  # what of a placement moves an object in a room
_IMAGES = 6  # one for each wall
_EARS = (0.5, 0.5, 0.4)  # where the listener is, as parts of the room
_CLEAR_M = 0.1  # of a wall
_LARGEST_M = (
    highest(Placement, "room_width_m"),
    highest(Placement, "room_depth_m"),
    highest(Placement, "room_height_m"),
)
Taps = tuple[NDArray[np.float64], NDArray[np.float64]]


class RoomRun(Processor):
    """The walls of a room round the listener, and the object within."""

    title: ClassVar[str] = "Room"

    azimuth_deg: float = 0.0
    elevation_deg: float = 0.0
    distance: float = 1.0
    x: float = 0.0
    y: float = 1.0
    z: float = 0.0
    coordinates: Literal["sphere", "cube"] = "sphere"
    reference: str = "4+5+0"
    sphere_m: float = 2.0
    per_doubling_db: float = 0.0
    walls_m: tuple[float, float, float] = (8.0, 10.0, 4.0)
    absorption: float = 0.3

    @classmethod
    def of(cls, place: Placement) -> "RoomRun":
        """The room of a placement. Its level falls with distance where its own does."""
        heard = {name: getattr(place, name) for name in MOVING}
        return cls(
            **heard,
            coordinates=place.coordinates,
            reference=place.reference,
            sphere_m=place.sphere_m,
            per_doubling_db=0.0 if place.sends_too else place.level_db_per_doubling,
            walls_m=(place.room_width_m, place.room_depth_m, place.room_height_m),
            absorption=place.room_absorption,
        )

    def start(self, channels: Channels, rate_hz: int, latency: int) -> Running:  # noqa: D102
        return _Reflecting(rate_hz)

    def tail_s(self, rate_hz: int, fall_db: float = 60.0) -> float:  # noqa: D102
        return _longest_way_m(self.walls_m) / SPEED_OF_SOUND_M_S

    def taps(self, rate_hz: int) -> "Taps":
        """How late each reflection is, (images), in samples, and its gains, (images, channels)."""
        direction, distance = self._seen()
        return _taps(
            tuple(np.round(direction, 6).tolist()),
            round(distance, 6),
            (self.walls_m, self.absorption, self.sphere_m, self.per_doubling_db),
            rate_hz,
        )

    def _seen(self) -> tuple[NDArray[np.float64], float]:
        """The direction of the object, (3), and its distance."""
        azimuth, elevation, distance = self.azimuth_deg, self.elevation_deg, self.distance
        if self.coordinates == "cube":
            x, y, z = (np.array([value]) for value in (self.x, self.y, self.z))
            found = to_sphere(x, y, z, REFERENCES[self.reference])
            azimuth, elevation, distance = (float(one[0]) for one in found)
        return unit_vectors(azimuth, elevation), distance


def _longest_way_m(walls_m: tuple[float, float, float]) -> float:
    """The longest way from a source to a listener by one wall of a room."""
    return 2.0 * float(np.linalg.norm(walls_m))


@lru_cache(4096)
def _taps(
    direction: tuple[float, ...], distance: float, room: tuple[Any, ...], rate_hz: int
) -> Taps:
    walls_m, absorption, sphere_m, per_doubling_db = room
    walls = np.array(walls_m)
    listener = np.array(_EARS) * walls
    place = listener + np.array(direction) * max(distance * sphere_m, _CLEAR_M)
    images = images_of(walls, np.clip(place, _CLEAR_M, walls - _CLEAR_M), listener, 1)
    away = np.linalg.norm(images.away_m, axis=1)
    level = float(level_at(np.array([distance]), per_doubling_db)[0]) if per_doubling_db else 1.0
    gains = level * np.sqrt(1.0 - absorption) * away[0] / away[1:]
    delays = np.maximum((away[1:] - away[0]) / SPEED_OF_SOUND_M_S * rate_hz, float(HALF))
    return delays, gains[:, None] * encode(*angles_of(images.away_m[1:]), ORDER)


class _Reflecting:
    """The reflections at work: each late by its own way, from where its wall shows it."""

    def __init__(self, rate_hz: int) -> None:
        self._rate_hz = rate_hz
        self._ways = [
            FractionalDelay(1, _longest_way_m(_LARGEST_M) / SPEED_OF_SOUND_M_S * rate_hz)
            for _ in range(_IMAGES)
        ]

    def process(self, block: Block, parameters: Motion[RoomRun], at: int) -> Block:
        out = np.zeros((CHANNELS, block.shape[1]), dtype=np.float32)
        taps = parameters.map(lambda one: one.taps(self._rate_hz))
        for number, way in enumerate(self._ways):
            self._add(out, block[:1], way, number, taps)
        return out

    def _add(
        self, out: Block, sound: Block, way: FractionalDelay, number: int, taps: Motion[Taps]
    ) -> None:
        late = way.process(sound, taps.map(lambda one: float(one[0][number])))
        frames, gains = taps.map(lambda one: one[1][number][:, None]).arrays()
        add_mixed(out, np.ascontiguousarray(late), frames, gains.astype(np.float32))
