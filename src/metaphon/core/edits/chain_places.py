"""The places of processors in a chain: when a list changes, the lanes that count them go along."""

from collections.abc import Mapping

from metaphon.core.document.mix import Mix
from metaphon.core.edits.command import changed, strip_of
from metaphon.core.process.basics import Basics


def renumbered(mix: Mix, head: str, places: Mapping[int, int | None]) -> Mix:
    """Let the lanes below `head` (as in gull/chain) follow.

    Old number to new one, None where it is gone.
    """
    kept = []
    for lane in mix.automation:
        if lane.target.startswith(f"{head}/"):
            number, _, rest = lane.target.removeprefix(f"{head}/").partition("/")
            place = places.get(int(number), int(number))
            if place is None:
                continue
            lane = (
                lane.model_copy(update={"target": f"{head}/{place}/{rest}"})
                if place != int(number)
                else lane
            )
        kept.append(lane)
    return mix.model_copy(update={"automation": tuple(sorted(kept, key=lambda lane: lane.target))})


def basics_place(mix: Mix, strip_id: str) -> int | None:
    """Where a strip's first basics at work stands in its chain."""
    chain = strip_of(mix, strip_id).chain
    return next((i for i, p in enumerate(chain) if isinstance(p, Basics) and not p.bypassed), None)


def with_basics(mix: Mix, strip_id: str) -> tuple[Mix, int]:
    """The mix with basics at work on a strip, and their place.

    Put in front where there are none.
    """
    place = basics_place(mix, strip_id)
    if place is not None:
        return mix, place
    count = len(strip_of(mix, strip_id).chain)
    mix = renumbered(mix, f"{strip_id}/chain", {n: n + 1 for n in range(count)})
    return changed(mix, [strip_id], lambda strip: {"chain": (Basics(), *strip.chain)}), 0
