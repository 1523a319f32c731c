"""A second performance out of one: copies that drift in time, pitch and level as players do."""

from functools import lru_cache
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from metaphon.core.dsp.block import Block
from metaphon.core.dsp.delay_line import DelayLine
from metaphon.core.dsp.fractional_delay import HALF, FractionalDelay
from metaphon.core.dsp.motion import PIECE, Motion
from metaphon.core.process.processor import Channels, Processor, Running, parameter, switch

_MOST = 4
_LATEST_MS = 80.0
_WIDEST_DRIFT_MS = 20.0
_POINTS = 128  # frames from one place of a drift to the next
_STEEPEST = 1.5  # of the curve from one chance value to the next, over its length
_QUICKEST_S = 0.25


class Doubler(Processor):
    """Doubles, each with a slow drift of its own that the seed decides, the same at every play.

    In stereo they stand apart from the original; in anything else each channel has its own.
    """

    title: ClassVar[str] = "Doubler"
    starting_points: ClassVar[dict[str, dict[str, Any]]] = {
        "Subtle": {"doubles": 1, "time_ms": 14, "drift_ms": 2, "drift_cents": 3, "drift_db": 0.5}
        | {"level_db": -8, "spread": 50},
        "Two players": {
            "doubles": 1,
            "time_ms": 22,
            "drift_ms": 6,
            "drift_cents": 8,
            "drift_db": 1.5,
        }
        | {"level_db": 0, "spread": 100},
        "Broad": {"doubles": 4, "time_ms": 30, "drift_ms": 12, "drift_cents": 15, "drift_db": 2.5}
        | {"level_db": -3, "spread": 100},
    }

    kind: Literal["doubler"] = "doubler"
    doubles: float = parameter(1.0, 0.0, _MOST, unit="", step=1.0, help="How many beside it.")
    time_ms: float = parameter(
        22.0,
        5.0,
        _LATEST_MS,
        unit="ms",
        step=0.5,
        help="How late they come, in the middle of the drift.",
    )
    drift_ms: float = parameter(
        4.0,
        0.0,
        _WIDEST_DRIFT_MS,
        unit="ms",
        step=0.1,
        help="How far they drift from that, either way.",
    )
    drift_cents: float = parameter(
        6.0, 0.5, 30.0, unit="cent", step=0.5, help="How far their pitch may be bent by it."
    )
    drift_db: float = parameter(
        1.0, 0.0, 6.0, unit="dB", step=0.1, help="How far they drift in level."
    )
    level_db: float = parameter(0.0, -24.0, 6.0, unit="dB", step=0.1, help="Level of the doubles.")
    spread: float = parameter(
        100.0, 0.0, 100.0, unit="%", step=1.0, help="How far apart they and the original stand."
    )
    original: bool = switch(True, help="The original is heard too.")
    seed: float = parameter(
        1.0, 1.0, 999.0, unit="", step=1.0, help="Another chance, the same ever after."
    )
    hold_loudness: bool = switch(False, help="As loud with its doubles as the sound before it.")

    begins_with: ClassVar[dict[str, Any]] = {"hold_loudness": True}

    @property
    def needs_two_sides(self) -> bool:
        return True

    def start(self, channels: Channels, rate_hz: int, latency: int) -> Running:
        return _Doubler(channels.count, rate_hz, latency)

    def tail_s(self, rate_hz: int, fall_db: float = 60.0) -> float:
        return (self.time_ms + self.drift_ms) / 1000.0 + 2.0 * HALF / rate_hz

    @property
    def passes_dry(self) -> bool:
        return self.original

    @property
    def brief(self) -> str:
        return (
            f"Doubler {round(self.doubles) + 1}" if self.original else f"Doubler {self.doubles:.0f}"
        )

    @property
    def period_s(self) -> float:
        """How long a double takes from one chance place to the next.

        A delay that changes by d a second bends the pitch by 1 - d; from one end of the drift to
        the other it then never bends it further than `drift_cents`.
        """
        slope = float(2.0 ** (self.drift_cents / 1200.0) - 1.0)
        return max(_STEEPEST * 2.0 * self.drift_ms / 1000.0 / slope, _QUICKEST_S)

    @property
    def held_gain(self) -> float:
        """The amplitude of everything: 1, or what takes back the power that the doubles add.

        They are late enough to have nothing in common with the original or each other.
        """
        total = float(self.original) + round(self.doubles) * 10.0 ** (self.level_db / 10.0)
        return float(total**-0.5) if self.hold_loudness and total > 0.0 else 1.0

    def gains(self, voice: int | None) -> NDArray[np.float64]:
        """The amplitudes of the original (None) or a double at left and right, (2)."""
        heard = 1.0 if voice is not None or self.original else 0.0
        side = -1.0 if voice is None else (1.0, -1.0, 0.5, -0.5)[voice]
        return heard * _sides(side * self.spread / 100.0)

    def pair_powers(
        self, powers: NDArray[np.float64], hertz: NDArray[np.float64], rate_hz: int
    ) -> NDArray[np.float64]:
        """Doubles are late enough to have nothing in common with the original or each other."""
        level = 10.0 ** (self.level_db / 10.0)
        voices = [(None, 1.0), *((voice, level) for voice in range(round(self.doubles)))]
        parts = [
            share * np.outer(self.gains(voice), self.gains(voice)) * powers
            for voice, share in voices
        ]
        return np.asarray(self.held_gain**2 * np.sum(parts, axis=0))

    def remark(self, rate_hz: int) -> str:
        early, late = self.time_ms - self.drift_ms, self.time_ms + self.drift_ms
        return f"The doubles come {max(early, 0.0):.1f} to {late:.1f} ms later."


def drift(seed: int, voice: int, at_s: NDArray[np.float64], period_s: float) -> NDArray[np.float64]:
    """A slow wandering between -1 and 1 at times of the mix: smooth from chance to chance."""
    places = at_s / period_s
    before = np.floor(places).astype(np.int64)
    along = places - before
    first = int(before.min())
    values = np.array([_chance(seed, voice, n) for n in range(first, int(before.max()) + 2)])
    low, high = values[before - first], values[before - first + 1]
    return np.asarray(low + (high - low) * along * along * (3.0 - 2.0 * along))


@lru_cache(maxsize=4096)
def _chance(seed: int, voice: int, place: int) -> float:
    return float(np.random.default_rng((seed, voice, place + (1 << 20))).uniform(-1.0, 1.0))


def _sides(place: float) -> NDArray[np.float64]:
    """Equal-power gains, left and right, from -1 (left) to 1 (right); 1 each in the middle."""
    turn = np.pi / 4.0 * (place + 1.0)
    return np.asarray(np.sqrt(2.0) * np.array([np.cos(turn), np.sin(turn)]))


class _Doubler:
    def __init__(self, channels: int, rate_hz: int, latency: int) -> None:
        self._channels = channels
        self._rate_hz = rate_hz
        self._late = DelayLine(channels, latency)
        self._latency = latency
        self._delays = [
            FractionalDelay(channels, (_LATEST_MS + _WIDEST_DRIFT_MS) * 1e-3 * rate_hz + latency)
            for _ in range(_MOST)
        ]

    def process(self, block: Block, parameters: Motion[Doubler], at: int) -> Block:
        # piece by piece, so that the length of a block changes nothing
        pieces = [
            self._piece(block[:, first : first + PIECE], parameters, at + first)
            for first in range(0, block.shape[1], PIECE)
        ]
        return np.concatenate(pieces, axis=1)

    def _piece(self, block: Block, parameters: Motion[Doubler], at: int) -> Block:
        frames = block.shape[1]
        dry = self._late.process(block)
        out = dry * self._gains(parameters, None, frames)
        places = np.unique(np.append(np.arange(0, frames, _POINTS), frames))
        settings = [_near(parameters, int(place)) for place in places]
        seconds = (at + places) / self._rate_hz
        for voice, delay in enumerate(self._delays):
            late = [
                (one.time_ms + one.drift_ms * float(wander)) * 1e-3 * self._rate_hz + self._latency
                for one, wander in zip(
                    settings, self._wander(settings, voice, seconds), strict=True
                )
            ]
            heard = delay.process(block, Motion(tuple(map(int, places)), tuple(late)))
            levels = [
                self._level(one, voice, float(wander))
                for one, wander in zip(
                    settings, self._wander(settings, voice + _MOST, seconds), strict=True
                )
            ]
            level = np.interp(np.arange(frames), places, levels)
            if level.any():
                out = out + heard * (level * self._gains(parameters, voice, frames))
        out = out * parameters.map(lambda one: one.held_gain).line(frames)
        return out.astype(np.float32)

    def _wander(
        self, settings: list[Doubler], voice: int, seconds: NDArray[np.float64]
    ) -> NDArray[np.float64]:
        found = np.empty(len(seconds))
        for n, one in enumerate(settings):
            if n and one is settings[n - 1]:
                continue
            same = np.array([other is one for other in settings])
            found[same] = drift(round(one.seed), voice, seconds[same], one.period_s)
        return found

    def _level(self, one: Doubler, voice: int, wander: float) -> float:
        if voice >= round(one.doubles):
            return 0.0
        level: float = 10.0 ** ((one.level_db + one.drift_db * wander) / 20.0)
        return level

    def _gains(
        self, parameters: Motion[Doubler], voice: int | None, frames: int
    ) -> NDArray[np.float64]:
        """The amplitudes of the original (None) or a double in each channel, (channels, frames)."""

        def gains(one: Doubler) -> NDArray[np.float64]:
            heard = 1.0 if voice is not None or one.original else 0.0
            return one.gains(voice) if self._channels == 2 else np.full(self._channels, heard)

        moved = parameters.map(gains)
        if not moved.moves:
            return np.asarray(moved.values[0])[:, None]
        at, values = moved.arrays()
        return np.stack([np.interp(np.arange(frames), at, row) for row in values.T])


def _near(parameters: Motion[Doubler], frame: int) -> Doubler:
    """The setting at a frame: the last that was told by then, or the first."""
    place = int(np.searchsorted(parameters.frames, frame, side="right")) - 1
    return parameters.values[max(place, 0)]
