"""How many listeners a machine carries: one more is let in where nobody else is disturbed."""

import os
from collections.abc import Hashable

_UNKNOWN = 0.15  # cores for one listener, before anybody has reported
MOST = 0.6  # of all cores; the rest is for pages, the ways to the browsers and the system
# of what there is to give: from the one down to the other all work in long stretches
_CROWDED, _ROOMY = 0.4, 0.25


class Capacity:
    """What the listeners of one server cost, in cores.

    Whose cost is not known yet counts as much as the mean of those that are.
    """

    def __init__(self, cores: int | None = None) -> None:
        self._most = MOST * (cores or os.cpu_count() or 1)
        self._costs: dict[Hashable, float] = {}  # of everyone who ever reported
        self._playing: set[Hashable] = set()
        self.is_crowded = False  # so much is given away that all had better take less, if later

    @property
    def playing(self) -> int:
        """How many play now."""
        return len(self._playing)

    def admits(self, listener: Hashable) -> bool:
        """Let a listener begin to play, the first always; False where that would be too many."""
        others = self._playing - {listener}
        known = [self._costs[one] for one in others if one in self._costs]
        mean = sum(known) / len(known) if known else _UNKNOWN
        wanted = sum(self._costs.get(one, mean) for one in {*others, listener})
        if others and wanted > self._most:
            return False
        self._playing.add(listener)
        self._look()
        return True

    def costs(self, listener: Hashable, cores: float) -> None:
        """Take what a listener costs now."""
        self._costs[listener] = cores
        self._look()

    def stops(self, listener: Hashable) -> None:
        """A listener plays no longer."""
        self._playing.discard(listener)
        self._look()

    def leaves(self, listener: Hashable) -> None:
        """A listener is gone."""
        self.stops(listener)
        self._costs.pop(listener, None)

    def _look(self) -> None:
        given = sum(self._costs.get(one, _UNKNOWN) for one in self._playing) / self._most
        self.is_crowded = given > (_ROOMY if self.is_crowded else _CROWDED)
