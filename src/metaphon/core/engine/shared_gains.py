"""The gain that dynamics take of the whole mix, kept so that its stems are turned down alike.

A limiter on a bus hears all that the bus carries. A stem that goes through it alone would be turned
down less, and the stems would no longer add up to the mix. So the render of the mix writes down the
gain of every such processor, and the stems follow it.
"""

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

import numpy as np

from metaphon.core.dsp.delay_line import DelayLine
from metaphon.core.engine.automation import GRID_FRAMES
from metaphon.core.engine.kept_gains import KeptGains
from metaphon.core.engine.lanes import OnStrips, StretchGains
from metaphon.core.engine.plan import Plan, StripPlan
from metaphon.core.engine.render import StripRun
from metaphon.core.engine.stems import as_in_mix
from metaphon.core.files.audio import AudioWriter

Key = tuple[str, int]  # a strip and the place of a processor among those at work


def dynamics_of(plan: Plan) -> list[Key]:
    """The processors of a plan whose gain follows the level of what they take in."""
    return [
        (strip.id, place)
        for strip in plan.strips
        for place, processor in enumerate(strip.chain)
        if processor.gain_follows_level
    ]


def _ahead_of(strip: StripPlan, place: int) -> int:
    """How many frames ahead of a block's beginning a processor gives out sound."""
    return strip.ahead_in - sum(strip.latencies[: place + 1])


def _begins(plan: Plan, first: int) -> int:
    """The frame that gains are kept from, for a stretch: those that still ring in it count."""
    begins = 0 if plan.is_endless else max(first - plan.memory, 0)
    return begins // GRID_FRAMES * GRID_FRAMES - plan.ahead  # a linear phase sounds ahead of 0


class GainWriter:
    """Writes the gains of a stretch of a mix, one channel a processor; called after each block."""

    def __init__(self, writer: AudioWriter, plan: Plan, keys: Sequence[Key], first: int) -> None:
        self._writer = writer
        self._keys = keys
        strips = {strip.id: strip for strip in plan.strips}
        ahead = [_ahead_of(strips[strip_id], place) for strip_id, place in self._keys]
        self._nearest = min(ahead)
        self._waits = [DelayLine(1, frames - self._nearest) for frames in ahead]
        self._next = _begins(plan, first)

    def __call__(self, strips: Sequence[StripRun], at: int) -> None:
        """Take the gains of all strips in a block that begins at a frame of the mix."""
        running = {strip.plan.id: strip for strip in strips}
        gains = [running[strip_id].chain.gains_of(place) for strip_id, place in self._keys]
        lines = [
            wait.process(own[None].astype(np.float32))
            for wait, own in zip(self._waits, gains, strict=True)
        ]
        early = at + self._nearest - self._next
        if early > 0:  # nothing was worked on before
            self._writer.add(np.ones((len(lines), early), dtype=np.float32))
        block = np.concatenate(lines)[:, max(-early, 0) :]
        self._writer.add(block)
        self._next = max(self._next, at + self._nearest + lines[0].shape[1])


class GainsKept(StretchGains):
    """The gains of a mix, kept stretch by stretch.

    Parameters
    ----------
    plan
        The mix.
    path_of
        The file of the stretch that begins at a frame.
    """

    def __init__(self, plan: Plan, path_of: Callable[[int], Path]) -> None:
        self._plan = plan
        self._path_of = path_of
        self._keys = dynamics_of(plan)

    @contextmanager
    def written(self, first: int) -> Iterator[OnStrips]:
        """What writes gains down that are shown to it, for the stretch that begins at a frame."""
        path = self._path_of(first)
        with AudioWriter(path, len(self._keys), self._plan.rate_hz, "32f") as writer:
            yield GainWriter(writer, self._plan, self._keys, first)


class GainsFollowed(StretchGains):
    """The gains of a mix as its stems follow them.

    Parameters
    ----------
    plan
        The mix.
    begins
        The frames that its stretches begin at.
    path_of
        The file of the stretch that begins at a frame.
    """

    def __init__(self, plan: Plan, begins: tuple[int, ...], path_of: Callable[[int], Path]) -> None:
        self._plan = plan
        self._begins = begins
        self._path_of = path_of
        self._channels = {key: channel for channel, key in enumerate(dynamics_of(plan))}

    def followed(self, first: int) -> Callable[[StripPlan], dict[int, KeptGains]]:
        """What the dynamics of a strip follow in the stretch that begins at a frame."""
        stretch = max(begin for begin in self._begins if begin <= first)
        path, begins = self._path_of(stretch), _begins(self._plan, stretch)

        def readers(strip: StripPlan) -> dict[int, KeptGains]:
            places = [(as_in_mix(strip.id), place) for place in range(len(strip.chain))]
            return {
                key[1]: KeptGains(path, begins, self._channels[key])
                for key in places
                if key in self._channels
            }

        return readers
