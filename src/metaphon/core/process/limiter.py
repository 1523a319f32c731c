"""No peak above a ceiling, in samples or between them, and no more done than that takes."""

from typing import ClassVar, Literal

import numba
import numpy as np
from numpy.typing import NDArray

from metaphon.core.dsp.block import Block
from metaphon.core.dsp.delay_line import DelayLine
from metaphon.core.dsp.motion import Motion
from metaphon.core.process.processor import Channels, Processor, parameter

Line = NDArray[np.float64]

_AHEAD_S = 0.004  # the gain is down when the peak arrives
_AGAIN_AHEAD_S = 0.0015
_HALF = 32  # samples on each side of one that is worked out between two
_AGAIN_HALF = 64
_FINER = 16  # so many places between two samples are looked at
_NOTHING = 1e-6  # of the gain: turned down by less is not turned down
_BETA = 4.0  # of the Kaiser window
_NEAR_DB = -2.0  # of the ceiling: what was found lower than that is not looked at again
_AGAIN_RELEASE_MS = 60.0
_MARGIN_DB = 0.1  # what is left, as the second gain moves too


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
        return _first_pass(rate_hz) + _second_pass(rate_hz)

    def memory_s(self, rate_hz: int) -> float:
        # what is missing of the gain falls by 1 / e in a release, until it counts as none
        releases_s = (self.release_ms + _again_ms(self)) / 1000.0
        return releases_s * float(-np.log(_NOTHING)) + 4.0 * _AHEAD_S

    def remark(self, rate_hz: int) -> str:
        return f"{1000.0 * self.latency_samples(rate_hz) / rate_hz:.1f} ms ahead of the peaks."


def _frames(seconds: float, rate_hz: int) -> int:
    return round(seconds * rate_hz)


def _first_pass(rate_hz: int) -> int:
    """How many samples late the first pass is."""
    return _HALF + _frames(_AHEAD_S, rate_hz)


def _second_pass(rate_hz: int) -> int:
    return _AGAIN_HALF + _frames(_AGAIN_AHEAD_S, rate_hz)


def _again_ms(limiter: Limiter) -> float:
    return min(limiter.release_ms, _AGAIN_RELEASE_MS)


class LimiterRun:
    """At work: what each sample may be multiplied by is the lowest of what is to come, smoothed.

    The lowest of the next samples, let up again slowly, and the mean of as many: so the gain is
    where it must be when the peak comes (common practice, no source). What lies between samples is
    worked out by a windowed sinc, and only where the samples could make a peak of it.

    A gain that moves changes what lies between samples, and each meter fills in what lies above
    20 kHz by a filter of its own. So what comes of it is looked at once more, as several meters
    would, and turned down by the little that is left. `reduction_db` is the most that the last
    block was turned down.
    """

    def __init__(self, channels: int, rate_hz: int, latency: int) -> None:
        self._rate_hz = rate_hz
        late = latency - _second_pass(rate_hz) - _first_pass(rate_hz)
        self._first = _Smoother(_frames(_AHEAD_S, rate_hz))
        self._second = _Smoother(_frames(_AGAIN_AHEAD_S, rate_hz))
        self._held = DelayLine(channels, latency)
        self._seen = np.zeros((channels, 2 * _HALF + 1), dtype=np.float32)
        self._to_first = DelayLine(channels, _first_pass(rate_hz))
        self._near = DelayLine(1, _first_pass(rate_hz) - _HALF)
        self._again = np.zeros((channels, 2 * _AGAIN_HALF), dtype=np.float32)
        self._near_again = DelayLine(1, _AGAIN_HALF)
        self._first_late = DelayLine(1, _second_pass(rate_hz))
        self._late = DelayLine(1, late)
        self.gains = np.ones(0)
        self.reduction_db = 0.0

    def process(self, block: Block, parameters: Motion[Limiter], at: int) -> Block:
        driven = _driven(block, parameters)
        ceiling = parameters.map(lambda one: 10.0 ** ((one.ceiling_dbtp - _MARGIN_DB) / 20.0))
        line = ceiling.line(block.shape[1])
        first, near = self._turned_once(driven, line, parameters.values[-1])
        second = self._turned_again(driven, first, near, line, parameters.values[-1])
        self.gains = _delayed(self._late, _delayed(self._first_late, first) * second)
        self.reduction_db = float(-20.0 * np.log10(self.gains.min()))
        return self._turned_down(driven, self.gains.astype(np.float32))

    def _turned_once(self, driven: Block, ceiling: Line, limiter: Limiter) -> tuple[Line, Line]:
        """The gains of the first pass, and how high what they leave is; both as late as it is."""
        frames = driven.shape[1]
        seen = np.concatenate([self._seen, driven], axis=1)
        self._seen = seen[:, frames:].copy()
        peaks = np.zeros(frames, dtype=np.float32)
        _find_peaks(seen, _BETWEEN, _BOUND, float(ceiling.min()), peaks)
        gains = self._first.gains(_allowed(ceiling, peaks), self._release(limiter.release_ms))
        return gains, self._near.process(peaks[None])[0] * gains

    def _turned_again(
        self, driven: Block, first: Line, near: Line, ceiling: Line, limiter: Limiter
    ) -> Line:
        """The gains of the second pass, as late as both are."""
        frames = driven.shape[1]
        once = self._to_first.process(driven) * first.astype(np.float32)
        seen = np.concatenate([self._again, once], axis=1)
        self._again = seen[:, frames:].copy()
        looked_at = self._near_again.process(near.astype(np.float32)[None])[0]
        peaks = np.zeros(frames, dtype=np.float32)
        _find_peaks_again(seen, looked_at, _AS_METERS, ceiling * 10.0 ** (_NEAR_DB / 20.0), peaks)
        return self._second.gains(_allowed(ceiling, peaks), self._release(_again_ms(limiter)))

    def _release(self, milliseconds: float) -> float:
        return float(1.0 - np.exp(-1000.0 / (milliseconds * self._rate_hz)))

    def follow(
        self, block: Block, parameters: Motion[Limiter], gains: NDArray[np.float32]
    ) -> Block:
        """Take and give (channels, frames), turned down by gains found elsewhere, (frames)."""
        return self._turned_down(_driven(block, parameters), gains)

    def _turned_down(self, driven: Block, gains: NDArray[np.float32]) -> Block:
        result: Block = self._held.process(driven) * gains
        return result


class _Smoother:
    """From what each sample may be multiplied by to gains that move slowly enough."""

    def __init__(self, ahead: int) -> None:
        self._allowed = np.ones(ahead - 1)
        self._window = np.ones(ahead)
        self._state = np.array([1.0, ahead, 0.0, 0.0])
        self._spare = DelayLine(1, 1)

    def gains(self, allowed: Line, release: float) -> Line:
        """Gains, (frames), as late as the window is long, of what is allowed."""
        frames = len(allowed)
        coming = np.concatenate([self._allowed, allowed])
        self._allowed = coming[frames:].copy()
        gains = np.empty(frames)
        _smoothed(coming, release, self._window, self._state, gains)
        return _delayed(self._spare, gains)


def _delayed(line: DelayLine, gains: Line) -> Line:
    """Gains through a delay that begins with 1."""
    result: Line = 1.0 - line.process((1.0 - gains)[None].astype(np.float32))[0].astype(float)
    return result


def _allowed(ceiling: Line, peaks: NDArray[np.float32]) -> Line:
    return np.asarray(np.minimum(1.0, ceiling / np.maximum(peaks, 1e-9)))


def _driven(block: Block, parameters: Motion[Limiter]) -> Block:
    drive = parameters.map(lambda one: 10.0 ** (one.drive_db / 20.0)).line(block.shape[1])
    driven: Block = (block * drive).astype(np.float32)
    return driven


def _between_samples(
    shares: NDArray[np.float64], half: int, beta: float, passed: float = 1.0
) -> NDArray[np.float32]:
    """Weights of what lies a share of the way from one sample to the next, (places, 2 half).

    `passed` is what is let through of all that lies below half the rate.
    """
    away = np.arange(1 - half, half + 1) - shares[:, None]
    window = np.i0(beta * np.sqrt(np.maximum(1.0 - (away / (half + 0.5)) ** 2, 0.0))) / np.i0(beta)
    weights = np.sinc(passed * away) * window
    result: NDArray[np.float32] = weights / weights.sum(axis=1, keepdims=True)
    return result.astype(np.float32)


def _as_meters() -> NDArray[np.float32]:
    """What meters of eight times the rate see from one sample to the next, (places, taps).

    Some pass all up to half the rate by a long filter, some cut before that, and some are short
    (common practice, no source): white noise is up to a decibel higher in one than in another.
    """
    every = np.arange(8) / 8.0
    kinds = (
        (_AGAIN_HALF, 2.0, 1.0),
        (_AGAIN_HALF, 6.0, 0.955),
        (16, 6.0, 1.0),
        (10, 5.0, 1.0),
        (6, 5.0, 1.0),
    )
    found = [_between_samples(every, *kind) for kind in kinds]
    sides = [(_AGAIN_HALF - one.shape[1] // 2,) * 2 for one in found]
    return np.concatenate(
        [np.pad(one, ((0, 0), wide)) for one, wide in zip(found, sides, strict=True)]
    )


_BETWEEN = _between_samples(np.arange(1, _FINER) / _FINER, _HALF, _BETA)
_BOUND = float(np.abs(_BETWEEN).sum(axis=1).max())
_AS_METERS = _as_meters()


@numba.njit(cache=True, nogil=True, fastmath=True)
def _find_peaks(seen, between, bound, low, highest):  # type: ignore[no-untyped-def]
    """How high any channel is at each sample and on either side of it, (frames), in place.

    `seen`, (channels, frames + 2 _HALF + 1), goes `_HALF` samples on from each, and one more back.
    What cannot get above `low` is left out.
    """
    frames, wide = len(highest), 2 * _HALF
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


@numba.njit(cache=True, nogil=True, fastmath=True)
def _find_peaks_again(seen, near, meters, low, highest):  # type: ignore[no-untyped-def]
    """How high meters see each sample and what follows it, (frames), in place.

    `seen`, (channels, frames + 2 _AGAIN_HALF); looked at only where `near` is above `low`.
    """
    for i in range(len(highest)):
        if near[i] <= low[i]:
            continue
        for channel in range(len(seen)):
            x = seen[channel, i + 1 : i + 1 + 2 * _AGAIN_HALF]
            peak = max(abs(x[_AGAIN_HALF - 1]), _highest_between(x, meters))
            highest[i] = max(highest[i], peak)


@numba.njit(cache=True, nogil=True, fastmath=True)
def _highest_between(x, between):  # type: ignore[no-untyped-def]
    """The highest of what lies between the two middle ones of some samples."""
    highest = np.float32(0.0)
    for place in range(len(between)):
        total = np.float32(0.0)
        for tap in range(between.shape[1]):
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
