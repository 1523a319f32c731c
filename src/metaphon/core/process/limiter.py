"""No peak above a ceiling, in samples or between them, and no more done than that takes."""

from typing import ClassVar, Literal

import numba
import numpy as np
from numpy.typing import NDArray

from metaphon.core.dsp.block import Block
from metaphon.core.dsp.motion import Motion
from metaphon.core.process.processor import Channels, Processor, parameter

_AHEAD_S = 0.004  # the gain is down when the peak arrives
_HALF = 32  # samples on each side of one that is worked out between two
_FINER = 16  # so many places between two samples are looked at
_NOTHING = 1e-6  # of the gain: turned down by less is not turned down
_BETA = 4.0  # of the Kaiser window
_MARGIN_DB = 0.12  # meters differ by as much above 20 kHz


class Limiter(Processor):
    """Holds peaks under a ceiling by turning down a little ahead of them, all channels alike."""

    title: ClassVar[str] = "Limiter"
    gain_follows_level: ClassVar[bool] = True
    starting_points: ClassVar[dict[str, dict[str, float]]] = {
        "Catch peaks": {"ceiling_dbtp": -1.0, "release_ms": 150.0, "drive_db": 0.0},
        "Slow and even": {"ceiling_dbtp": -2.0, "release_ms": 800.0},
    }

    kind: Literal["limiter"] = "limiter"
    ceiling_dbtp: float = parameter(
        -1.0, -24.0, 0.0, unit="dBTP", step=0.1, help="No true peak gets above it."
    )
    drive_db: float = parameter(
        0.0, -12.0, 24.0, unit="dB", step=0.1, help="How much louder it goes in."
    )
    release_ms: float = parameter(
        150.0,
        10.0,
        3000.0,
        unit="ms",
        step=1.0,
        scale="log",
        help="How long it takes to come up again by two thirds.",
    )

    def start(self, channels: Channels, rate_hz: int, latency: int) -> "LimiterRun":
        return LimiterRun(channels.count, rate_hz, latency)

    def latency_samples(self, rate_hz: int) -> int:
        return _ahead(rate_hz) + _HALF

    def memory_s(self, rate_hz: int) -> float:
        # what is missing of the gain falls by 1 / e in a release, until it counts as none
        return self.release_ms / 1000.0 * float(-np.log(_NOTHING)) + 2.0 * _AHEAD_S

    def remark(self, rate_hz: int) -> str:
        return f"{1000.0 * self.latency_samples(rate_hz) / rate_hz:.1f} ms ahead of the peaks."


def _ahead(rate_hz: int) -> int:
    return round(_AHEAD_S * rate_hz)


class LimiterRun:
    """At work: what each sample may be multiplied by is the lowest of what is to come, smoothed.

    The lowest of the next samples, let up again slowly, and the mean of as many: so the gain is
    where it must be when the peak comes (common practice, no source). What lies between samples is
    worked out by a windowed sinc, and only where the samples could make a peak of it.
    `reduction_db` is the most that the last block was turned down.
    """

    def __init__(self, channels: int, rate_hz: int, latency: int) -> None:
        self._rate_hz = rate_hz
        ahead = _ahead(rate_hz)
        self._held = np.zeros((channels, latency), dtype=np.float32)
        self._seen = np.zeros((channels, 2 * _HALF + 1), dtype=np.float32)
        self._allowed = np.ones(ahead - 1)
        self._window = np.ones(ahead)
        self._state = np.array([1.0, ahead, 0.0, 0.0])
        self._gains = np.ones(latency - _HALF - (ahead - 1))
        self.gains = np.ones(0)
        self.reduction_db = 0.0

    def process(self, block: Block, parameters: Motion[Limiter], at: int) -> Block:
        frames = block.shape[1]
        driven = _driven(block, parameters)
        ceiling = parameters.map(lambda one: 10.0 ** ((one.ceiling_dbtp - _MARGIN_DB) / 20.0))
        seen = np.concatenate([self._seen, driven], axis=1)
        self._seen = seen[:, frames:].copy()
        allowed = np.empty(frames)
        _allowed(seen, _BETWEEN, _BOUND, ceiling.line(frames), allowed)
        coming = np.concatenate([self._allowed, allowed])
        self._allowed = coming[frames:].copy()
        samples = parameters.values[-1].release_ms / 1000.0 * self._rate_hz
        gains = np.empty(frames)
        _smoothed(coming, 1.0 - np.exp(-1.0 / samples), self._window, self._state, gains)
        gains = np.concatenate([self._gains, gains])
        self._gains, self.gains = gains[frames:].copy(), gains[:frames]
        self.reduction_db = float(-20.0 * np.log10(self.gains.min()))
        return self._turned_down(driven, self.gains.astype(np.float32))

    def follow(
        self, block: Block, parameters: Motion[Limiter], gains: NDArray[np.float32]
    ) -> Block:
        """Take and give (channels, frames), turned down by gains found elsewhere, (frames)."""
        return self._turned_down(_driven(block, parameters), gains)

    def _turned_down(self, driven: Block, gains: NDArray[np.float32]) -> Block:
        frames = driven.shape[1]
        held = np.concatenate([self._held, driven], axis=1)
        self._held = held[:, frames:].copy()
        result: Block = held[:, :frames] * gains
        return result


def _driven(block: Block, parameters: Motion[Limiter]) -> Block:
    drive = parameters.map(lambda one: 10.0 ** (one.drive_db / 20.0)).line(block.shape[1])
    driven: Block = (block * drive).astype(np.float32)
    return driven


def _between_samples() -> NDArray[np.float32]:
    """Weights of what lies between two samples, (places, 2 _HALF)."""
    shares = np.arange(1, _FINER) / _FINER
    away = np.arange(1 - _HALF, _HALF + 1) - shares[:, None]
    window = np.i0(_BETA * np.sqrt(1.0 - (away / (_HALF + 0.5)) ** 2)) / np.i0(_BETA)
    weights = np.sinc(away) * window
    result: NDArray[np.float32] = weights / weights.sum(axis=1, keepdims=True)
    return result.astype(np.float32)


_BETWEEN = _between_samples()
_BOUND = float(np.abs(_BETWEEN).sum(axis=1).max())


@numba.njit(cache=True, nogil=True, fastmath=True)
def _allowed(seen, between, bound, ceiling, allowed):  # type: ignore[no-untyped-def]
    """What each sample may be multiplied by, (frames), so that none of its channels is too high.

    `seen`, (channels, frames + 2 _HALF + 1), goes `_HALF` samples on from each, and one more back.
    """
    frames, wide = len(allowed), 2 * _HALF
    highest = np.zeros(frames, dtype=np.float32)
    low = ceiling.min()
    for channel in range(len(seen)):
        x = seen[channel]
        loud = 0  # for how many places on a loud sample counts
        before = np.float32(0.0)  # the highest between this sample and the one before
        for i in range(1, frames + wide + 1):
            if abs(x[i]) * bound > low:
                loud = wide
            place = i - wide
            if place >= 0:
                after = np.float32(0.0)
                if loud:
                    after = _highest_between(x[place + 1 : place + 1 + wide], between)
                if place:
                    peak = max(abs(x[place + _HALF]), max(before, after))
                    highest[place - 1] = max(highest[place - 1], peak)
                before = after
            loud -= loud > 0
    for n in range(frames):
        allowed[n] = min(1.0, ceiling[n] / highest[n]) if highest[n] > 0.0 else 1.0


@numba.njit(cache=True, nogil=True, fastmath=True)
def _highest_between(x, between):  # type: ignore[no-untyped-def]
    """The highest of what lies between the two middle ones of 2 _HALF samples."""
    highest = np.float32(0.0)
    for place in range(len(between)):
        total = np.float32(0.0)
        for tap in range(2 * _HALF):
            total += between[place, tap] * x[tap]
        highest = max(highest, abs(total))
    return highest


@numba.njit(cache=True, nogil=True)
def _smoothed(coming, release, window, state, gains):  # type: ignore[no-untyped-def]
    """The mean, over a window, of the lowest of as many as are to come, let up slowly; (frames).

    `window` goes round: what is averaged now. `state`: the last that was let up, the sum of the
    window, the place in it, and how long nothing has been turned down.
    """
    ahead = len(window)
    line = np.empty(len(coming), dtype=np.int64)  # places of what may become the lowest, rising
    first = last = 0
    for i in range(len(coming)):
        while last > first and coming[line[last - 1]] >= coming[i]:
            last -= 1
        line[last] = i
        last += 1
        if line[first] <= i - ahead:
            first += 1
        n = i - (ahead - 1)
        if n < 0:
            continue
        up = state[0] + (1.0 - state[0]) * release
        state[0] = min(coming[line[first]], up if up < 1.0 - _NOTHING else 1.0)
        at = int(state[2])
        state[1] += state[0] - window[at]
        window[at] = state[0]
        state[2] = (at + 1) % ahead
        state[3] = 0.0 if state[0] < 1.0 else state[3] + 1.0
        if state[3] >= ahead:  # nothing is turned down: exactly as it came
            state[1] = ahead
        gains[n] = state[1] / ahead
