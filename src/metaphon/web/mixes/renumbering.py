"""Lanes that name a place in a list go with what stands there when the list changes."""

from collections.abc import Mapping

from metaphon.web.mixes.models import Mix


def renumber(mix: Mix, head: str, places: Mapping[int, int | None]) -> None:
    """Let the lanes below `head` (as in gull/chain) follow: old number to new one, None where it is gone."""
    lanes = list(mix.automation.filter(target__startswith=f"{head}/"))
    moved = []
    for lane in lanes:
        number, _, rest = lane.target.removeprefix(f"{head}/").partition("/")
        if int(number) in places:
            new = places[int(number)]
            mix.automation.filter(pk=lane.pk).delete()
            if new is not None:
                moved.append((f"{head}/{new}/{rest}", lane.points))
    for target, points in moved:
        mix.automation.create(target=target, points=points)
