"""Where the reflections of a box-shaped room seem to come from: its image sources.

Source: J. B. Allen & D. A. Berkley, Image method for efficiently simulating small-room acoustics,
J. Acoust. Soc. Am. 65, 1979.
"""

from functools import lru_cache
from typing import NamedTuple

import numpy as np
from numpy.typing import ArrayLike, NDArray

Array = NDArray[np.float64]


class Images(NamedTuple):
    """Images of a source: as seen from the listener, in metres, (images, 3), and their walls.

    `hits` says how often the sound meets each wall, (images, 6): the low and the high one of x, of
    y and of z.
    """

    away_m: Array
    hits: NDArray[np.int64]

    @property
    def orders(self) -> NDArray[np.int64]:
        """How many walls each has met, (images)."""
        return np.asarray(self.hits.sum(axis=1))


def images_of(room_m: ArrayLike, source_m: ArrayLike, listener_m: ArrayLike, order: int) -> Images:
    """The images of a source up to an order, the source itself first.

    Parameters
    ----------
    room_m
        Width, depth and height, (3).
    source_m, listener_m
        Places in the room from its corner, (3) each, in metres.
    order
        How many walls at most.

    Returns
    -------
        Sorted by order.
    """
    cells, hits = _cells(order)
    room, source = np.asarray(room_m, dtype=float), np.asarray(source_m, dtype=float)
    odd = cells % 2 != 0
    places = cells * room + np.where(odd, room - source, source)
    return Images(places - np.asarray(listener_m, dtype=float), hits)


@lru_cache(8)
def _cells(order: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """The mirrored rooms up to an order, (rooms, 3), and the walls on the way, (rooms, 6)."""
    reach = np.arange(-order, order + 1)
    every = np.stack(np.meshgrid(reach, reach, reach, indexing="ij"), axis=-1).reshape(-1, 3)
    cells = every[np.abs(every).sum(axis=1) <= order]
    cells = cells[np.argsort(np.abs(cells).sum(axis=1), kind="stable")]
    # on the way to cell n the walls at its two ends are met in turn
    low = np.where(cells < 0, (-cells + 1) // 2, cells // 2)
    high = np.abs(cells) - low
    return cells, np.stack([low, high], axis=2).reshape(len(cells), 6)
