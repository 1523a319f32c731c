"""The tails of a mix's spaces, told once for the rules that judge them."""

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from metaphon.core.checks.rule import awake
from metaphon.core.document.mix import Bus, Mix
from metaphon.core.document.targets import bus_format
from metaphon.core.document.tempo import strip_in_time
from metaphon.core.engine.tail import tail_of
from metaphon.core.measure.correlation import of_pair
from metaphon.core.measure.room_response import OCTAVES_HZ, RoomResponse, room_response

_EARLY_S = 0.05
_POINTS = 8  # of curves that no rule looks at


@dataclass(frozen=True)
class SpaceTail:
    """How a bus answers a click.

    Its figures, the energy that comes in the first 50 ms and later, and the correlation of two
    sides, None where it has not two.
    """

    response: RoomResponse
    early: float
    late: float
    correlation: float | None

    def decay_s(self, hertz: float) -> float | None:
        """The decay time of an octave."""
        return self.response.octaves[OCTAVES_HZ.index(hertz)].decay_s


def spaces_of(mix: Mix) -> list[Bus]:
    """The buses with a reverb at work."""
    return [one for one in awake(mix) if isinstance(one, Bus) and one.has_reverb]


def space_tail(mix: Mix, bus: Bus) -> SpaceTail:
    """The tail of a bus; the last few are kept. Raises InputError where a response is missing."""
    heard = Bus(id="space", name=bus.name, layout=bus.layout, chain=bus.chain)
    return _told(strip_in_time(heard, mix.tempo_bpm), mix.sample_rate_hz)


@lru_cache(32)
def _told(bus: Bus, rate_hz: int) -> SpaceTail:
    tail = tail_of(bus, bus_format(bus.layout).channels, rate_hz).astype(np.float64)
    first = round(_EARLY_S * rate_hz)
    energy = np.sum(tail**2, axis=0)
    pair = of_pair(tail @ tail.T)[0] if len(tail) == 2 else None
    return SpaceTail(
        room_response(tail[0], rate_hz, _POINTS),
        float(energy[:first].sum()),
        float(energy[first:].sum()),
        pair,
    )
