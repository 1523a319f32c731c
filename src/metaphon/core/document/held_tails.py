"""Reverbs that are held at the end of a mix: how long they go on, and that they are then let go."""

from collections.abc import Collection, Iterator
from typing import Any, NamedTuple

import numpy as np

from metaphon.core.document.breakpoints import CURVES, Breakpoints
from metaphon.core.document.lanes import lanes_of, with_lane
from metaphon.core.document.mix import Automation, Mix, Strip

_ON = 0.5


class HeldTail(NamedTuple):
    """A processor that is held at the end: its place in the chain, and the path of its hold."""

    place: int
    path: str


class LetGo(NamedTuple):
    """A mix in which all that is held is let go, and when the last is, None for by hand."""

    mix: Mix
    last_s: float | None


def held_at_end(mix: Mix, strip: Strip) -> Iterator[HeldTail]:
    """The processors of a strip that are on and held when its last lane has ended."""
    lanes = lanes_of(mix, strip.id)
    for place, processor in enumerate(strip.chain):
        path = f"chain/{place}/hold"
        lane = lanes.get(path)
        last = float(lane.points.values[-1]) if lane else getattr(processor, "hold", 0.0)
        if last >= _ON and not processor.bypassed:
            yield HeldTail(place, path)


def released_at_s(mix: Mix, processor: Any, end_s: float) -> float:
    """When a hold is let go that is on at the end: so long after it, or at the last marker."""
    marker_s = max((marker.at_s for marker in mix.markers), default=0.0)
    if processor.hold_end == "marker" and marker_s > end_s:
        return marker_s
    return end_s + float(processor.hold_end_s)


def let_go(mix: Mix, strips: Collection[str], end_s: float, by_hand: bool = False) -> LetGo:
    """The mix with each reverb let go that is held at its end.

    Parameters
    ----------
    mix, strips
        The mix, and the ids of those of its strips that are heard.
    end_s
        When its last recording ends.
    by_hand
        Whether somebody listens who may let go: a hold that waits for that is left on.

    Returns
    -------
        With a step down at the end of each lane of a hold. `last_s` is at least `end_s`.
    """
    last_s: float | None = end_s
    for strip in mix.strips:
        for held in held_at_end(mix, strip) if strip.id in strips else ():
            processor: Any = strip.chain[held.place]
            if by_hand and processor.hold_end == "released":
                last_s = None
                continue
            before = lanes_of(mix, strip.id).get(held.path)
            points = before.points if before else Breakpoints.still(processor.hold)
            at_s = max(released_at_s(mix, processor, end_s), float(points.times_s[-1]))
            mix = with_lane(
                mix, Automation(target=f"{strip.id}/{held.path}", points=_down(points, at_s))
            )
            last_s = None if last_s is None else max(last_s, at_s)
    return LetGo(mix, last_s)


def _down(points: Breakpoints, at_s: float) -> Breakpoints:
    """Breakpoints whose last value is kept up to a time, and is 0 from then on."""
    curves = points.curves.copy()
    curves[-1] = CURVES.index("hold")
    return Breakpoints(
        np.append(points.times_s, at_s), np.append(points.values, 0.0), np.append(curves, 0)
    )
