"""What Field draws.

Loudspeakers, sources and their paths, and how truly a layout plays each direction.
"""

from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import ArrayLike, NDArray

from metaphon.core.document.mix import Automation, Mix, Placement, Strip
from metaphon.core.document.positions import on_sphere, path_times, used_lanes
from metaphon.core.document.thinning import thinned_directions
from metaphon.core.spatial.ambisonics import MAX_ORDER, encode
from metaphon.core.spatial.chart import on_chart
from metaphon.core.spatial.cube_panning import cube_pan
from metaphon.core.spatial.decoding import Decoder, Weighting, decode_matrix
from metaphon.core.spatial.layouts import Layout, layout_named
from metaphon.core.spatial.localisation import Localised, Panner, localised
from metaphon.core.spatial.panning import vector_pan
from metaphon.core.spatial.room_cube import to_cube

_CELLS = (48, 24)  # turns and heights of the drawing of how true a layout is
_DRAWN_TO_DEG = 0.5
_PIECE = 256  # breakpoints


class Way(NamedTuple):
    """A way to play a direction: its short name, and its gains."""

    title: str
    gains: Panner


def _in_room(azimuth: ArrayLike, elevation: ArrayLike, layout: Layout) -> NDArray[np.float64]:
    return cube_pan(np.stack(to_cube(azimuth, elevation), -1), layout)


def _in_scene(order: int, decoder: Decoder, weighting: Weighting) -> Panner:
    return lambda azimuth, elevation, layout: (
        encode(azimuth, elevation, order) @ decode_matrix(order, layout, decoder, weighting).T
    )


_DECODERS: dict[Decoder, str] = {
    "allrad": "AllRAD",
    "projection": "Projection",
    "mode_matching": "Mode matching",
}
_WEIGHTINGS: dict[Weighting, str] = {"max_re": "max-rE", "basic": "basic"}
_SET_SIDE_BY_SIDE = (
    "vector",
    "cube",
    "allrad_max_re_1",
    "allrad_max_re_3",
    "allrad_max_re_7",
    "projection_max_re_3",
    "mode_matching_max_re_3",
)

ORDERS = range(1, MAX_ORDER + 1)
WEIGHTINGS = tuple(_WEIGHTINGS.items())
WAYS = (
    ("vector", "objects, by angles"),
    ("cube", "objects, in the room"),
    *((name, f"scenes, {title}") for name, title in _DECODERS.items()),
)

PANNERS: dict[str, Way] = {
    "vector": Way("Vector base", vector_pan),
    "cube": Way("Room", _in_room),
    **{
        f"{decoder}_{weighting}_{order}": Way(
            f"{name} {order}{' basic' if weighting == 'basic' else ''}",
            _in_scene(order, decoder, weighting),
        )
        for decoder, name in _DECODERS.items()
        for weighting in _WEIGHTINGS
        for order in ORDERS
    },
}


@dataclass(frozen=True)
class Judged:
    """Which panner is shown on the chart, said by choices that depend on each other."""

    way: str = ""
    order: int = 3
    weighting: str = "max_re"

    @classmethod
    def asked(cls, query: Mapping[str, str]) -> "Judged":
        """What a page's address asks for; what it does not say, or says wrongly, is as usual."""
        order, weighting = query.get("order", ""), query.get("weighting", "")
        return cls(
            way if (way := query.get("truth", "")) in dict(WAYS) else "",
            int(order) if order in map(str, ORDERS) else 3,
            weighting if weighting in _WEIGHTINGS else "max_re",
        )

    @property
    def of_scenes(self) -> bool:
        """Whether it is a decoder, which has an order and weights."""
        return self.way in _DECODERS

    @property
    def panner(self) -> str:
        """The panner's name in PANNERS; empty where none is shown."""
        return f"{self.way}_{self.weighting}_{self.order}" if self.of_scenes else self.way


def loudspeakers(layout: Layout) -> list[dict[str, Any]]:
    """Every loudspeaker on the chart, in plan, from the side and in space."""
    found = []
    for label, low, (azimuth, elevation), vector in zip(
        layout.labels, layout.is_lfe, layout.angles_deg, layout.vectors, strict=True
    ):
        if not low:
            x, y = on_chart(azimuth, elevation)
            found.append(
                {
                    "label": label.replace("-", "−"),
                    "x": 100 * x,
                    "y": -100 * y,
                    "vector": [round(float(v), 4) for v in vector],
                    "plan_x": 90 * vector[0],
                    "plan_y": -90 * vector[1],
                    "side_x": 90 * vector[1],
                    "side_y": -90 * vector[2],
                }
            )
    return found


@lru_cache(maxsize=64)
def _judged(layout: Layout, panner: str) -> Localised:
    azimuth, elevation = np.meshgrid(*_middles())
    return localised(azimuth.ravel(), elevation.ravel(), layout, PANNERS[panner].gains)


def _edges() -> tuple[np.ndarray, np.ndarray]:
    turns, heights = _CELLS
    return np.linspace(-180, 180, turns + 1), np.degrees(np.arcsin(np.linspace(-1, 1, heights + 1)))


def _middles() -> list[np.ndarray]:
    return [(edges[1:] + edges[:-1]) / 2 for edges in _edges()]


def truth(layout: Layout, panner: str) -> list[dict[str, Any]]:
    """How far off and how wide a panner plays each part of the sphere, as tiles of equal area of
    the chart.
    """
    turns, _ = _CELLS
    edges_a, edges_e = _edges()
    judged = _judged(layout, panner)
    tiles = []
    for i, (error, spread) in enumerate(
        zip(judged.energy_error_deg, judged.spread_deg, strict=True)
    ):
        e, a = divmod(i, turns)
        corners = on_chart(
            np.clip(edges_a[[a, a + 1, a + 1, a]], -179.99, 179.99), edges_e[[e, e, e + 1, e + 1]]
        )
        path = "M" + "L".join(f"{100 * x:.1f} {-100 * y:.1f}" for x, y in corners) + "Z"
        grade = min(int((error + spread / 4) / 12.0), 4)
        tiles.append(
            {"path": path, "grade": grade, "words": f"{error:.0f}° off, {spread:.0f}° wide"}
        )
    return tiles


def compared(layout: Layout, chosen: str) -> list[dict[str, Any]]:
    """The figures of some panners on a layout, the chosen one among them.

    Means and worst over the whole sphere.
    """
    found = []
    for name in dict.fromkeys((*_SET_SIDE_BY_SIDE, chosen)):
        judged = _judged(layout, name)
        found.append(
            {
                "name": name,
                "title": PANNERS[name].title,
                "chosen": name == chosen,
                "velocity_deg": float(judged.velocity_error_deg.mean()),
                "energy_deg": float(judged.energy_error_deg.mean()),
                "worst_deg": float(judged.energy_error_deg.max()),
                "spread_deg": float(judged.spread_deg.mean()),
            }
        )
    return found


def source(strip: Strip, mix: Mix) -> dict[str, Any]:
    """A strip as the page's script takes it: its place and size as angles, and its path in time."""
    place = strip.placement
    lanes = used_lanes(mix, strip)
    group = next((group.name for group in mix.groups if group.id == strip.group), "")
    own = on_sphere(place, {}, np.zeros(1))[:, 0]
    found: dict[str, Any] = {
        "id": strip.id,
        "name": strip.name,
        "colour": strip.colour,
        "mode": place.mode,
        "layout": place.layout,
        "group": group,
        "locked": place.locked,
        "path": None,
        "azimuth_deg": round(float(own[0]), 3),
        "elevation_deg": round(float(own[1]), 3),
        "distance": 1.0 if place.on_sphere else round(float(own[2]), 3),
        "width_deg": round(float(own[3]), 1),
        "height_deg": round(float(own[4]), 1),
    }
    if lanes and place.mode == "object":
        found["path"] = _path(place, tuple(lanes.items()))
    return found


@lru_cache(maxsize=1024)
def _path(place: Placement, lanes: tuple[tuple[str, Automation], ...]) -> list[list[float]]:
    """Seconds, azimuth (running on past 180), elevation and distance, as few as a drawing needs."""
    held = dict(lanes)
    times = path_times(place, held)
    path = on_sphere(place, held, times)
    rows = np.ascontiguousarray(
        np.stack([times, np.unwrap(path[0], period=360.0), path[1], path[2]], axis=1)
    )
    # piece by piece, so that an edit of one breakpoint of many costs one piece
    pieces = (rows[first : first + _PIECE + 1] for first in range(0, max(len(rows) - 1, 1), _PIECE))
    return [point for piece in pieces for point in _thinned(piece.tobytes())]


@lru_cache(maxsize=8192)
def _thinned(piece: bytes) -> list[list[float]]:
    rows = np.frombuffer(piece).reshape(-1, 4)
    kept = (
        thinned_directions(rows[:, 0], rows[:, 1], rows[:, 2], _DRAWN_TO_DEG)
        if len(rows) > 2
        else list(range(len(rows)))
    )
    found: list[list[float]] = np.round(rows[kept], 3).tolist()
    return found


def beds(mix: Mix) -> dict[str, list[list[float]]]:
    """Where the loudspeakers of every bed in use stand on the chart, by layout."""
    used = {strip.placement.layout for strip in mix.strips if strip.placement.mode == "bed"}
    return {
        name: [
            [round(100 * float(x), 1), round(-100 * float(y), 1)]
            for x, y in on_chart(
                *np.array(
                    [
                        angle
                        for angle, low in zip(layout.angles_deg, layout.is_lfe, strict=True)
                        if not low
                    ]
                ).T
            )
        ]
        for name in sorted(used)
        for layout in [layout_named(name)]
    }
