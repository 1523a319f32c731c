"""Parts of the sphere whose loudspeakers a source may keep out of. One row a zone."""

from collections.abc import Callable
from functools import lru_cache
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from metaphon.core.errors import InputError
from metaphon.core.spatial.layouts import Layout

Zone = Literal["front", "rear", "sides", "left", "right", "above", "below", "level"]

# azimuth and elevation in degrees of a loudspeaker that lies in the zone
ZONES: dict[Zone, Callable[[float, float], bool]] = {
    "front": lambda azimuth, elevation: abs(azimuth) <= 60.0 and elevation < 75.0,
    "sides": lambda azimuth, elevation: 60.0 < abs(azimuth) < 120.0 and elevation < 75.0,
    "rear": lambda azimuth, elevation: abs(azimuth) > 100.0 and elevation < 75.0,
    "left": lambda azimuth, elevation: 0.0 < azimuth < 180.0,
    "right": lambda azimuth, elevation: -180.0 < azimuth < 0.0,
    "above": lambda azimuth, elevation: elevation > 10.0,
    "level": lambda azimuth, elevation: abs(elevation) <= 10.0,
    "below": lambda azimuth, elevation: elevation < -10.0,
}


@lru_cache(maxsize=256)
def left_open(layout: Layout, excluded: tuple[Zone, ...]) -> tuple[int, ...]:
    """The channels of a layout that may play; all of them where the zones would leave none."""
    found = tuple(
        i for i in layout.main if not any(ZONES[zone](*layout.angles_deg[i]) for zone in excluded)
    )
    return found or layout.main


@lru_cache(maxsize=256)
def shares_of_open(layout: Layout, excluded: tuple[Zone, ...]) -> NDArray[np.float64]:
    """Where the power goes that a source would give to each loudspeaker, were no zone excluded.

    Parameters
    ----------
    layout
        The loudspeakers.
    excluded
        Zones that are kept out of.

    Returns
    -------
        Parts of power, (channels that play, channels that would), each column adding up to one:
        that of a loudspeaker in an excluded zone goes to the nearest that are open.
    """
    open_ones = np.array(left_open(layout, excluded))
    shares = np.eye(layout.channels)
    for channel in layout.main:
        if channel not in open_ones:
            near = np.round(layout.vectors[open_ones] @ layout.vectors[channel], 6)
            nearest = open_ones[near == near.max()]
            shares[:, channel] = 0.0
            shares[nearest, channel] = 1.0 / len(nearest)
    shares.flags.writeable = False
    return shares


@lru_cache(maxsize=256)
def part_of(layout: Layout, channels: tuple[int, ...]) -> Layout:
    """A layout of only these loudspeakers of another."""
    if not channels:
        raise InputError(f"{layout.title} has no loudspeaker left; open a zone again.")
    return Layout(
        f"{layout.name}/{','.join(map(str, channels))}",
        layout.everyday,
        tuple(layout.labels[i] for i in channels),
        tuple(layout.angles_deg[i] for i in channels),
    )
