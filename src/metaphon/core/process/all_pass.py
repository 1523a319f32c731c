"""Phase turned about a frequency and nothing else: every level stays as it is."""

from typing import ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from metaphon.core.dsp.block import Block
from metaphon.core.dsp.motion import Memo, Motion
from metaphon.core.dsp.sections import Cascade, Sections, as_sections, response, ring_s
from metaphon.core.measure.pair import Pair
from metaphon.core.process.processor import Channels, Processor, Running, choice, parameter

_TRIED_HZ = np.geomspace(30.0, 6000.0, 120)
_TRIED_Q = (0.35, 0.7, 1.4)


class AllPass(Processor):
    """Turns the phase of one recording so that it fits another where no delay can."""

    title: ClassVar[str] = "All-pass"

    kind: Literal["all_pass"] = "all_pass"
    frequency_hz: float = parameter(
        200.0,
        20.0,
        20000.0,
        unit="Hz",
        step=1.0,
        scale="log",
        help="Where the phase has turned by half of its way.",
    )
    order: Literal["1", "2"] = choice(
        "1", help="The first turns by 180 degrees in all, the second by 360."
    )
    q: float = parameter(
        0.7, 0.1, 10.0, unit="", step=0.01, scale="log", help="How abruptly the second order turns."
    )

    def start(self, channels: Channels, rate_hz: int, latency: int) -> Running:
        return _AllPass(channels.count, rate_hz)

    def tail_s(self, rate_hz: int, fall_db: float = 60.0) -> float:
        return ring_s(self.section(rate_hz), rate_hz, fall_db)

    def response(self, frequencies_hz: NDArray[np.float64], rate_hz: int) -> NDArray[np.complex128]:
        return response(self.section(rate_hz), frequencies_hz, rate_hz)

    def section(self, rate_hz: int) -> Sections:
        """The filter as one section, (1, 5).

        Source: P. A. Regalia, S. K. Mitra & P. P. Vaidyanathan, The digital all-pass filter, Proc.
        IEEE 76(1), 1988: a numerator that is the denominator read backwards.
        """
        g = np.tan(np.pi * min(self.frequency_hz, 0.49 * rate_hz) / rate_hz)
        if self.order == "1":
            c = (g - 1.0) / (g + 1.0)
            return as_sections([c, 1.0, 0.0], [1.0, c, 0.0])
        return np.array([[g, 1.0 / self.q, 1.0, -1.0 / self.q, 1.0]])


def best_rotation(pair: Pair, rate_hz: int) -> tuple[AllPass, float]:
    """The all-pass on the other of a pair that makes most of their sum, and what it gains in dB."""
    settings = [AllPass(frequency_hz=round(float(hz), 1)) for hz in _TRIED_HZ]
    settings += [
        AllPass(frequency_hz=round(float(hz), 1), order="2", q=q)
        for q in _TRIED_Q
        for hz in _TRIED_HZ
    ]
    # what is common lies where both are loud; a few hundred of its frequencies tell as much
    loud = np.sort(np.argsort(-np.abs(pair.cross))[:600])
    at, cross = pair.frequencies_hz[loud], pair.cross[loud]
    sums = [float(np.sum((cross * one.response(at, rate_hz)).real)) for one in settings]
    best = settings[int(np.argmax(sums))]
    turned = pair.through(best.response(pair.frequencies_hz, rate_hz))
    return best, turned.gain_db(against=pair)


class _AllPass:
    def __init__(self, channels: int, rate_hz: int) -> None:
        self._turn = Cascade(channels)
        self._section: Memo[AllPass, Sections] = Memo(lambda one: one.section(rate_hz))

    def process(self, block: Block, parameters: Motion[AllPass], at: int) -> Block:
        return self._turn.process(block, parameters.map(lambda one: (self._section(one),)))
