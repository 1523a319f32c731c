"""Six made-up spaces that ship, each with three microphones at three distances.

`python -m metaphon.core.spaces.shipped` makes their files anew.
"""

from pathlib import Path
from typing import NamedTuple

from metaphon.core.spaces.space import Microphone, Room, Source, Space

FOLDER = Path(__file__).parent / "shipped"
RATE_HZ = 48000
DISTANCES = ("near", "middle", "far")
MICROPHONES = {
    "cardioids": "Crossed cardioids",
    "omnis": "Spaced omnis",
    "ambisonic": "Ambisonic",
}


class Shipped(NamedTuple):
    """A space that ships.

    Its room, where its source stands, how far its microphones are and how far apart omnis stand,
    in metres.
    """

    key: str
    room: Room
    from_front_m: float
    distances_m: tuple[float, float, float]
    spacing_m: float

    @property
    def space(self) -> Space:
        """All its microphones at all distances."""
        return Space(
            room=self.room,
            source=Source(from_front_m=self.from_front_m),
            microphones=tuple(
                _microphone(kind, metres, self.spacing_m)
                for kind in MICROPHONES
                for metres in self.distances_m
            ),
        )

    def file(self, microphone: str, distance: str) -> Path:
        """Where the response of a microphone at a distance lies."""
        return FOLDER / f"{self.key}_{microphone}_{distance}.flac"


def _microphone(kind: str, distance_m: float, spacing_m: float) -> Microphone:
    if kind == "ambisonic":
        return Microphone(title="Ambisonic", pattern="ambisonic", distance_m=distance_m)
    if kind == "omnis":
        return Microphone(pattern="omni", spacing_m=spacing_m, distance_m=distance_m)
    return Microphone(pattern="cardioid", spacing_m=0.0, angle_deg=100.0, distance_m=distance_m)


SPACES = (
    Shipped(
        "chart_room",
        Room(
            title="Chart room",
            width_m=4.2,
            depth_m=5.6,
            height_m=2.8,
            floor="carpet",
            walls="wood",
            ceiling="plaster",
        ),
        1.2,
        (0.8, 1.8, 3.2),
        0.4,
    ),
    Shipped(
        "lantern_room",
        Room(
            title="Lantern room",
            shape="round",
            width_m=4.8,
            depth_m=4.8,
            height_m=4.4,
            floor="floorboards",
            walls="glass",
            ceiling="plaster",
        ),
        1.0,
        (0.6, 1.5, 2.9),
        0.5,
    ),
    Shipped(
        "ice_cellar",
        Room(
            title="Ice cellar",
            shape="l_shape",
            width_m=7.0,
            depth_m=12.5,
            height_m=3.1,
            floor="brick",
            walls="brick",
            ceiling="plaster",
            scattering=0.2,
        ),
        2.0,
        (1.2, 3.2, 7.5),
        0.8,
    ),
    Shipped(
        "boat_shed",
        Room(
            title="Boat shed",
            width_m=11.0,
            depth_m=21.0,
            height_m=6.4,
            floor="floorboards",
            walls="wood",
            ceiling="wood",
            scattering=0.45,
        ),
        3.0,
        (2.0, 5.5, 13.0),
        1.2,
    ),
    Shipped(
        "quay_chapel",
        Room(
            title="Quay chapel",
            width_m=11.5,
            depth_m=24.0,
            height_m=10.5,
            floor="seats",
            walls="stone",
            ceiling="wood",
            scattering=0.35,
        ),
        4.0,
        (2.5, 7.0, 16.0),
        1.6,
    ),
    Shipped(
        "net_loft",
        Room(
            title="Net loft",
            shape="wedge",
            width_m=24.0,
            depth_m=38.0,
            height_m=8.5,
            floor="concrete",
            walls="brick",
            ceiling="curtains",
            scattering=0.5,
        ),
        6.0,
        (3.0, 9.0, 22.0),
        2.0,
    ),
)


def make(folder: Path) -> None:
    """Simulate every space and write its responses. Some minutes."""
    # slow to import, and whoever uses what ships makes nothing
    from metaphon.core.spaces.response_files import write_flac
    from metaphon.core.spaces.simulation import simulated

    folder.mkdir(exist_ok=True)
    for one in SPACES:
        heard = iter(simulated(one.space, RATE_HZ, lambda done: None))
        for kind in MICROPHONES:
            for distance in DISTANCES:
                write_flac(folder / one.file(kind, distance).name, next(heard), RATE_HZ)


if __name__ == "__main__":
    make(FOLDER)
