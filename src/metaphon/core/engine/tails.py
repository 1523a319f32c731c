"""The last step, one for each target: from the programme's feeds to the channels of a format."""

from collections.abc import Mapping, Sequence
from functools import lru_cache
from typing import Protocol

import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft, next_fast_len, rfft

from metaphon.core.engine.curves import GRID_FRAMES, RAMP, Gains, Mixer, grid_times
from metaphon.core.engine.plan import BedFeed, Feed, ObjectFeed, SceneFeed
from metaphon.core.process.processor import Block
from metaphon.core.scene.entering import loudspeakers_encoded
from metaphon.core.scene.targets import Target
from metaphon.core.spatial.ambisonics import channels_of, decode_matrix, encode
from metaphon.core.spatial.binaural import loudspeaker_responses, scene_responses
from metaphon.core.spatial.directions import ring
from metaphon.core.spatial.downmix import conversion
from metaphon.core.spatial.head import SHIPPED, Head, load_head
from metaphon.core.spatial.layouts import Layout
from metaphon.core.spatial.panning import object_gains, vector_pan

_KEPT_DIRECTIONS = 4096

Signals = Mapping[str, Block]


class Tail(Protocol):
    """Turns what the strips feed into the programme, by strip id, into one target's channels."""

    def process(self, signals: Signals, first: int, frames: int) -> Block: ...


def tail_for(target: Target, feeds: Sequence[Feed], rate_hz: int) -> Tail:
    """The tail of a target over these feeds."""
    if target.name == "binaural":
        return BinauralTail(feeds, load_head(SHIPPED, rate_hz))
    return MatrixTail(target, feeds, rate_hz)


class MatrixTail:
    """Loudspeakers and scenes: every feed has a matrix of gains to the target, fixed or moving."""

    def __init__(self, target: Target, feeds: Sequence[Feed], rate_hz: int) -> None:
        self._channels = target.channels
        self._mixers = [(feed.strip, Mixer(_gains(target, feed), rate_hz)) for feed in feeds]

    def process(self, signals: Signals, first: int, frames: int) -> Block:
        out = np.zeros((self._channels, frames), dtype=np.float32)
        for strip, mixer in self._mixers:
            if strip in signals:
                out += mixer.apply(signals[strip], first)
        return out


def _gains(target: Target, feed: Feed) -> Gains:
    if isinstance(feed, SceneFeed):
        if target.layout:
            return Gains.fixed(decode_matrix(feed.order, target.layout))
        return Gains.fixed(np.eye(target.channels, channels_of(feed.order)))
    if isinstance(feed, BedFeed):
        bed = _bed_matrix(feed.layout, target)
        return Gains(lambda times_s: bed @ feed.gains.at(times_s), feed.gains.moves, (target.name, feed))
    return Gains(lambda times_s: _object_matrix(feed, target, times_s), feed.moves, (target.name, feed))


def _bed_matrix(bed: Layout, target: Target) -> NDArray[np.float64]:
    if target.layout:
        return conversion(bed.name, target.layout.name)
    assert target.order is not None
    return loudspeakers_encoded(bed, target.order)


def _object_matrix(feed: ObjectFeed, target: Target, times_s: NDArray[np.float64]) -> NDArray[np.float64]:
    """(times, target channels, object channels)."""
    azimuth, elevation = feed.angles_at(times_s)
    if feed.extent_deg > 0.0:
        rows = [_wide(a, e, feed.extent_deg, target) for a, e in zip(azimuth.flat, elevation.flat, strict=True)]
        gains = np.array(rows).reshape(*azimuth.shape, target.channels)
    elif target.layout:
        gains = vector_pan(azimuth, elevation, target.layout)
    else:
        assert target.order is not None
        gains = encode(azimuth, elevation, target.order)
    return np.swapaxes(gains, 1, 2)


def _wide(azimuth_deg: float, elevation_deg: float, extent_deg: float, target: Target) -> NDArray[np.float64]:
    if target.layout:
        return object_gains(azimuth_deg, elevation_deg, extent_deg, target.layout)
    assert target.order is not None
    x, y, z = ring(azimuth_deg, elevation_deg, extent_deg).T
    harmonics = encode(np.degrees(np.arctan2(-x, y)), np.degrees(np.arcsin(np.clip(z, -1, 1))), target.order)
    return harmonics.mean(axis=0)


@lru_cache(maxsize=8)
def _kept_directions(head: Head) -> dict[tuple[int, int, float], NDArray[np.complex64]]:
    """The spectra of directions that were asked for, shared by all tails of a head."""
    return {}


class BinauralTail:
    """Headphones: beds as loudspeakers round the head, objects from where they are, scenes from all round.

    Everything is convolved with the measured head in pieces of one grid step, so a moving source passes
    from one pair of responses to the next without a click. LFE has no direction and is left out.
    """

    def __init__(self, feeds: Sequence[Feed], head: Head) -> None:
        self._head = head
        self._size = next_fast_len(GRID_FRAMES + head.taps - 1, real=True)
        self._kept = _kept_directions(head)
        self._carry = np.zeros((2, self._size - GRID_FRAMES), dtype=np.float32)
        self._beds = [
            (feed.strip, Mixer(feed.gains, head.rate_hz), feed.layout) for feed in feeds if isinstance(feed, BedFeed)
        ]
        self._bed_filters = {
            layout.name: self._spectra(loudspeaker_responses(head, layout.name)) for _, _, layout in self._beds
        }
        objects = [feed for feed in feeds if isinstance(feed, ObjectFeed)]
        self._still = [(feed.strip, self._filters(feed, np.zeros(1))[0]) for feed in objects if not feed.moves]
        self._moving = [feed for feed in objects if feed.moves]
        scenes = [feed for feed in feeds if isinstance(feed, SceneFeed)]
        self._scenes = [(feed.strip, self._spectra(scene_responses(head, feed.order))) for feed in scenes]

    def _spectra(self, responses: NDArray[np.float32]) -> NDArray[np.complex64]:
        return rfft(responses, self._size).astype(np.complex64)

    def _filters(self, feed: ObjectFeed, times_s: NDArray[np.float64]) -> NDArray[np.complex64]:
        """(times, object channels, 2, frequencies)."""
        azimuth, elevation = feed.angles_at(times_s)
        spectra = [self._filter(a, e, feed.extent_deg) for a, e in zip(azimuth.flat, elevation.flat, strict=True)]
        return np.array(spectra).reshape(*azimuth.shape, 2, -1)

    def _filter(self, azimuth_deg: float, elevation_deg: float, extent_deg: float) -> NDArray[np.complex64]:
        """The spectra for one direction, (2, frequencies), to a quarter of a degree: finer than is heard."""
        key = (round(azimuth_deg * 4), round(elevation_deg * 4), extent_deg)
        if key not in self._kept:
            spread = self._head.responses(ring(key[0] / 4, key[1] / 4, extent_deg))
            responses = spread.mean(axis=0)
            energy = np.mean(np.sum(spread**2, axis=(1, 2)))
            self._kept[key] = self._spectra(responses * np.sqrt(energy / np.sum(responses**2)))
            if len(self._kept) > _KEPT_DIRECTIONS:
                self._kept.pop(next(iter(self._kept)))
        return self._kept[key]

    def process(self, signals: Signals, first: int, frames: int) -> Block:
        segments = frames // GRID_FRAMES
        heard = np.zeros((2, segments, self._size // 2 + 1), dtype=np.complex64)
        for name, filters in self._bed_filters.items():
            bed = self._bed_sum(name, signals, first)
            if bed is not None:
                self._convolve(heard, bed, filters)
        for strip, filters in [*self._still, *self._scenes]:
            if strip in signals:
                self._convolve(heard, signals[strip], filters)
        times_s = grid_times(first, frames, self._head.rate_hz)
        for feed in self._moving:
            if feed.strip in signals:
                filters = self._filters(feed, times_s)
                pieces = signals[feed.strip].reshape(-1, segments, GRID_FRAMES)
                rising = pieces * RAMP
                before, after = rfft(pieces - rising, self._size), rfft(rising, self._size)
                for channel in range(len(pieces)):
                    responses = filters[:, channel].transpose(1, 0, 2)
                    heard += responses[:, :-1] * before[channel] + responses[:, 1:] * after[channel]
        return self._overlapped(irfft(heard, self._size), frames)

    def _bed_sum(self, layout: str, signals: Signals, first: int) -> Block | None:
        """The sum of all that plays on one layout's loudspeakers, so that each is convolved once."""
        total: Block | None = None
        for strip, mixer, bed in self._beds:
            if bed.name == layout and strip in signals:
                part = mixer.apply(signals[strip], first)
                total = part if total is None else total + part
        return total

    def _convolve(self, heard: NDArray[np.complex64], block: Block, filters: NDArray[np.complex64]) -> None:
        pieces = block.reshape(block.shape[0], -1, GRID_FRAMES)
        for channel, responses in zip(pieces, filters, strict=True):
            if responses.any() and channel.any():
                heard += responses[:, None, :] * rfft(channel, self._size)

    def _overlapped(self, pieces: NDArray[np.float32], frames: int) -> Block:
        out = np.zeros((2, frames + self._carry.shape[1]), dtype=np.float32)
        out[:, : self._carry.shape[1]] = self._carry
        for i in range(pieces.shape[1]):
            out[:, i * GRID_FRAMES : i * GRID_FRAMES + self._size] += pieces[:, i]
        self._carry = out[:, frames:].copy()
        return out[:, :frames]
