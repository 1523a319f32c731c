"""A simulated space as data: its room, its source, its microphones."""

from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from metaphon.core.document.part import Part
from metaphon.core.process.processor import choice, parameter, switch

Material = Literal[
    "concrete",
    "stone",
    "brick",
    "tiles",
    "plaster",
    "wood",
    "floorboards",
    "glass",
    "carpet",
    "curtains",
    "seats",
    "people",
    "absorber",
]
ShapeOfRoom = Literal["box", "round", "l_shape", "wedge"]
_SIDES_OF_ROUND = 12
_CLEAR_M = 0.25  # from any wall


class Room(Part):
    """What is built: its shape and size in metres, and what its surfaces are made of."""

    title: str = Field("A new space", min_length=1, max_length=120)
    shape: ShapeOfRoom = choice("box", help="The floor plan.")
    width_m: float = parameter(8.0, 2.0, 80.0, unit="m", step=0.1, help="From left to right.")
    depth_m: float = parameter(12.0, 2.0, 120.0, unit="m", step=0.1, help="From front to rear.")
    height_m: float = parameter(4.0, 2.0, 40.0, unit="m", step=0.1, help="From floor to ceiling.")
    floor: Material = choice("floorboards", help="What the floor is made of.")
    walls: Material = choice("plaster", help="What the walls are made of.")
    ceiling: Material = choice("plaster", help="What the ceiling is made of.")
    scattering: float = parameter(
        0.3, 0.0, 1.0, unit="", step=0.01, help="How much surfaces scatter what they reflect."
    )
    air: bool = switch(True, help="Let the air take treble.")

    @property
    def corners_m(self) -> NDArray[np.float64]:
        """The floor plan, (corners, 2), counter-clockwise: to the right, to the front."""
        w, d = self.width_m, self.depth_m
        if self.shape == "round":
            angle = 2.0 * np.pi * (np.arange(_SIDES_OF_ROUND) + 0.5) / _SIDES_OF_ROUND
            round_about = np.stack([np.cos(angle), np.sin(angle)], axis=1)
            around = round_about / np.cos(np.pi / _SIDES_OF_ROUND)
            return np.asarray(0.5 * np.array([w, d]) * (1.0 + around))
        if self.shape == "l_shape":
            inner = (0.4 * w, 0.55 * d)
            return np.array([(0, 0), (w, 0), (w, d), (inner[0], d), inner, (0, inner[1])])
        if self.shape == "wedge":
            return np.array([(0, 0), (w, 0), (0.7 * w, d), (0.3 * w, d)])
        return np.array([(0, 0), (w, 0), (w, d), (0, d)])

    @property
    def volume_m3(self) -> float:
        """What it holds."""
        x, y = self.corners_m.T
        area = 0.5 * abs(float(np.sum(x * np.roll(y, -1) - y * np.roll(x, -1))))
        return area * self.height_m

    @property
    def surfaces_m2(self) -> dict[str, float]:
        """The areas of floor, walls and ceiling."""
        sides = np.linalg.norm(np.roll(self.corners_m, -1, axis=0) - self.corners_m, axis=1)
        plan = self.volume_m3 / self.height_m
        return {"floor": plan, "walls": float(sides.sum()) * self.height_m, "ceiling": plan}

    def holds(self, places_m: NDArray[np.float64]) -> NDArray[np.bool_]:
        """Whether places, (places, 3), lie inside, clear of every wall."""
        inside = np.zeros(len(places_m), dtype=bool)
        x, y, z = places_m.T
        nearest = np.full(len(places_m), np.inf)
        corners = self.corners_m
        for a, b in zip(corners, np.roll(corners, -1, axis=0), strict=True):
            if a[1] != b[1]:
                crosses = (a[1] > y) != (b[1] > y)
                inside ^= crosses & (x < (b[0] - a[0]) * (y - a[1]) / (b[1] - a[1]) + a[0])
            along = np.clip(((places_m[:, :2] - a) @ (b - a)) / np.sum((b - a) ** 2), 0.0, 1.0)
            foot = a + along[:, None] * (b - a)
            nearest = np.minimum(nearest, np.linalg.norm(places_m[:, :2] - foot, axis=1))
        upright = (z >= _CLEAR_M) & (z <= self.height_m - _CLEAR_M)
        return np.asarray(inside & upright & (nearest >= _CLEAR_M))


class Source(Part):
    """Where the sound stands: in the middle of the room, so far from its front."""

    count: Literal["one", "pair"] = choice(
        "one", help="A pair makes a true stereo response: each side has its own."
    )
    spacing_m: float = parameter(
        2.0, 0.2, 20.0, unit="m", step=0.1, help="Between the two of a pair."
    )
    from_front_m: float = parameter(
        2.0, 0.3, 100.0, unit="m", step=0.1, help="Behind the front wall."
    )
    height_m: float = parameter(1.5, 0.3, 30.0, unit="m", step=0.1, help="Above the floor.")


class Microphone(Part):
    """What listens, so far behind the source: one, a pair or five, of a pattern, or ambisonic."""

    title: str = Field("Pair", min_length=1, max_length=60)
    pattern: Literal["omni", "cardioid", "figure_of_eight", "ambisonic"] = choice(
        "omni", help="What it hears from where; ambisonic is of first order."
    )
    count: Literal["one", "pair", "five"] = choice(
        "pair", help="How many stand there; ambisonic is always one."
    )
    spacing_m: float = parameter(
        0.4, 0.0, 10.0, unit="m", step=0.01, help="Between those of a pair; of five, their radius."
    )
    angle_deg: float = parameter(
        90.0, 0.0, 180.0, unit="°", step=1.0, help="Between the axes of a pair."
    )
    distance_m: float = parameter(
        4.0, 0.3, 100.0, unit="m", step=0.1, help="From the source to the microphone."
    )
    height_m: float = parameter(1.7, 0.3, 30.0, unit="m", step=0.1, help="Above the floor.")

    @property
    def form(self) -> Literal["mono", "stereo", "surround", "scene"]:
        """What its response is."""
        if self.pattern == "ambisonic":
            return "scene"
        found: Literal["mono", "stereo", "surround"] = (
            "mono" if self.count == "one" else "stereo" if self.count == "pair" else "surround"
        )
        return found


class Space(Part):
    """A room with a source and microphones, each of which hears it in its own way."""

    room: Room = Room()
    source: Source = Source()
    microphones: tuple[Microphone, ...] = Field((Microphone(),), min_length=1, max_length=9)

    @property
    def sources_m(self) -> NDArray[np.float64]:
        """Where the sources stand, (1 or 2, 3): to the right, to the front, up; left first."""
        middle = np.array(
            [
                0.5 * self.room.width_m,
                self.room.depth_m - self.source.from_front_m,
                self.source.height_m,
            ]
        )
        if self.source.count == "one":
            return middle[None]
        aside = np.array([0.5 * self.source.spacing_m, 0.0, 0.0])
        return np.stack([middle - aside, middle + aside])

    def middle_m(self, microphone: Microphone) -> NDArray[np.float64]:
        """Where a microphone stands, (3)."""
        away = self.source.from_front_m + microphone.distance_m
        return np.array([0.5 * self.room.width_m, self.room.depth_m - away, microphone.height_m])

    @model_validator(mode="after")
    def _fits(self) -> "Space":
        if not self.room.holds(self.sources_m).all():
            raise ValueError("the source stands outside the room; move it or make the room larger")
        for one in self.microphones:
            several = one.count != "one" and one.pattern != "ambisonic"
            reach = 0.5 * one.spacing_m if several else 0.0
            spread = np.array([(-reach, 0.0, 0.0), (0.0, 0.0, 0.0), (reach, 0.0, 0.0)])
            if not self.room.holds(self.middle_m(one) + spread).all():
                raise ValueError(
                    f"the microphone {one.title} stands outside the room; bring it nearer or make "
                    "the room larger"
                )
        return self
