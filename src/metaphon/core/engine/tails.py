"""The last step, one for each target: from the programme's feeds to the channels of a format."""

import os
from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import lru_cache
from typing import Protocol

import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft, next_fast_len, rfft
from scipy.signal import butter, sosfilt

from metaphon.core.engine.curves import GRID_FRAMES, RAMP, Ahead, Gains, Mixer
from metaphon.core.engine.lapping import Lapped
from metaphon.core.engine.object_points import direct_and_diffuse, head_directions, layout_gains, scene_gains
from metaphon.core.engine.plan import BedFeed, Feed, ObjectFeed, SceneFeed
from metaphon.core.process.processor import Block
from metaphon.core.scene.entering import loudspeakers_encoded
from metaphon.core.scene.targets import Target
from metaphon.core.spatial.ambisonics import channels_of
from metaphon.core.spatial.binaural import loudspeaker_responses, scene_responses
from metaphon.core.spatial.decoding import CROSSOVER_HZ, Weighting, decode_matrix
from metaphon.core.spatial.decorrelation import decorrelators
from metaphon.core.spatial.downmix import conversion
from metaphon.core.spatial.head import SHIPPED, Head, load_head
from metaphon.core.spatial.layouts import Layout

_KEPT_DIRECTIONS = 2048  # of each crew
_CREWS = 2

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
    """Loudspeakers and scenes: every feed has a matrix of gains to the target, fixed or moving.

    What has lost its direction goes to the same loudspeakers, each made unlike the others.
    """

    def __init__(self, target: Target, feeds: Sequence[Feed], rate_hz: int) -> None:
        self._channels = target.channels
        moving = [feed for feed in feeds if isinstance(feed, ObjectFeed) and feed.moves]
        self._moving = _Together(moving, [_object_gains(target, feed, False) for feed in moving], rate_hz)
        self._mixers = [(feed.strip, _mixer(target, feed, rate_hz)) for feed in feeds if feed not in moving]
        diffuse = [feed for feed in feeds if isinstance(feed, ObjectFeed) and feed.where.is_diffuse]
        self._diffuse = _Together(diffuse, [_object_gains(target, feed, True) for feed in diffuse], rate_hz)
        self._unlike = Unlike(target.channels, rate_hz) if diffuse else None

    def process(self, signals: Signals, first: int, frames: int) -> Block:
        out = np.zeros((self._channels, frames), dtype=np.float32)
        for strip, mixer in self._mixers:
            if strip in signals:
                out += mixer.apply(signals[strip], first)
            elif isinstance(mixer, _DualBand):
                out += mixer.apply(np.zeros((mixer.inputs, frames), dtype=np.float32), first)
        self._moving.add(out, signals, first)
        if self._unlike:
            lost = np.zeros_like(out)
            self._diffuse.add(lost, signals, first)
            out += self._unlike.process(lost)
        return out


class _Together:
    """Objects mixed in one go: many small matrices cost more than a large one."""

    def __init__(self, feeds: Sequence[ObjectFeed], gains: Sequence[Gains], rate_hz: int) -> None:
        self._inputs = [(feed.strip, len(feed.where.offsets_deg)) for feed in feeds]
        joined = Gains(lambda times_s: np.concatenate([g.at(times_s) for g in gains], axis=2), True, tuple(gains))
        self._mixer = Mixer(joined, rate_hz) if feeds else None

    def add(self, out: Block, signals: Signals, first: int) -> None:
        """Add what the objects put into each channel; who is silent takes no part."""
        if self._mixer is None or not any(strip in signals for strip, _ in self._inputs):
            return
        silence = np.zeros((1, out.shape[1]), dtype=np.float32)
        rows = [
            signals[strip] if strip in signals else np.broadcast_to(silence, (count, out.shape[1]))
            for strip, count in self._inputs
        ]
        out += self._mixer.apply(np.concatenate(rows), first)


class Unlike:
    """Every channel through a filter of its own, in pieces of one grid step."""

    def __init__(self, channels: int, rate_hz: int) -> None:
        filters = decorrelators(channels, rate_hz)
        self._size = next_fast_len(GRID_FRAMES + filters.shape[1] - 1, real=True)
        self._spectra = rfft(filters, self._size).astype(np.complex64)[:, None]
        self._lapped = Lapped(channels, self._size)

    def process(self, block: Block) -> Block:
        pieces = rfft(block.reshape(len(block), -1, GRID_FRAMES), self._size) * self._spectra
        return self._lapped.add(irfft(pieces, self._size))


class _DualBand:
    """A scene decoded in one way below the crossover and in another above, by a filter of first order."""

    def __init__(self, low: Gains, high: Gains, inputs: int, outputs: int, rate_hz: int) -> None:
        self.inputs = inputs
        self._high = Mixer(high, rate_hz)
        self._more = Mixer(
            Gains(lambda times_s: low.at(times_s) - high.at(times_s), low.moves, (low.key, high.key)), rate_hz
        )
        self._sections = butter(1, CROSSOVER_HZ, fs=rate_hz, output="sos")
        self._state = np.zeros((1, outputs, 2))

    def apply(self, block: Block, first: int) -> Block:
        more, self._state = sosfilt(
            self._sections, self._more.apply(block, first).astype(np.float64), axis=1, zi=self._state
        )
        return self._high.apply(block, first) + more.astype(np.float32)


def _mixer(target: Target, feed: Feed, rate_hz: int) -> "Mixer | _DualBand":
    if isinstance(feed, SceneFeed):
        if target.layout and feed.weighting == "dual_band":
            low, high = (_scene(target, feed, weighting) for weighting in ("basic", "max_re"))
            return _DualBand(low, high, channels_of(feed.order), target.channels, rate_hz)
        return Mixer(_scene(target, feed, feed.weighting), rate_hz)
    if isinstance(feed, BedFeed):
        bed, panned = _bed_matrix(feed.layout, target), feed.gains
        return Mixer(Gains(lambda times_s: bed @ panned.at(times_s), panned.moves, (target.name, feed)), rate_hz)
    return Mixer(_object_gains(target, feed, False), rate_hz)


def _scene(target: Target, feed: SceneFeed, weighting: Weighting) -> Gains:
    played = (
        decode_matrix(feed.order, target.layout, feed.decoder, weighting)
        if target.layout
        else np.eye(target.channels, channels_of(feed.order))
    )
    return Gains(lambda times_s: played @ feed.rotation_at(times_s), feed.moves, (target.name, feed, weighting))


def _object_gains(target: Target, feed: ObjectFeed, diffuse: bool) -> Gains:
    where = feed.where

    def gains(times_s: NDArray[np.float64]) -> NDArray[np.float64]:
        if target.layout:
            panned = layout_gains(where, target.layout, times_s)
        else:
            assert target.order is not None
            panned = scene_gains(where, target.order, times_s)
        return panned * direct_and_diffuse(where, times_s)[diffuse][:, None, None]

    return Gains(gains, where.moves, (target.name, feed, diffuse))


def _bed_matrix(bed: Layout, target: Target) -> NDArray[np.float64]:
    if target.layout:
        return conversion(bed.name, target.layout.name)
    assert target.order is not None
    return loudspeakers_encoded(bed, target.order)


class BinauralTail:
    """Headphones: beds as loudspeakers round the head, objects from where they are, scenes from all round.

    Everything is convolved with the measured head in pieces of one grid step, so a moving source passes
    from one pair of responses to the next without a click. LFE has no direction and is left out.
    """

    def __init__(self, feeds: Sequence[Feed], head: Head) -> None:
        self._head = head
        self._size = next_fast_len(GRID_FRAMES + head.taps - 1, real=True)
        self._lapped = Lapped(2, self._size)
        rate_hz = head.rate_hz
        self._beds = [
            (feed.strip, Mixer(feed.gains, rate_hz), feed.layout) for feed in feeds if isinstance(feed, BedFeed)
        ]
        self._bed_filters = {
            layout.name: self._spectra(loudspeaker_responses(head, layout.name)) for _, _, layout in self._beds
        }
        objects = [feed for feed in feeds if isinstance(feed, ObjectFeed)]
        self._still = [(feed, self._still_filters(feed)) for feed in objects if not feed.moves]
        moving = [_Moving(feed, rate_hz) for feed in objects if feed.moves]
        self._crews = [_Crew(moving[i::_CREWS], head, self._size) for i in range(_CREWS) if moving[i::_CREWS]]
        scenes = [feed for feed in feeds if isinstance(feed, SceneFeed)]
        self._scenes = [
            (feed.strip, Mixer(Gains(feed.rotation_at, feed.moves, feed), rate_hz),
             self._spectra(scene_responses(head, feed.order)))
            for feed in scenes
        ]  # fmt: skip
        self._unlike = Unlike(2, rate_hz) if any(feed.where.is_diffuse for feed in objects) else None
        self._apart = Lapped(2, self._size)

    def _spectra(self, responses: NDArray[np.float32]) -> NDArray[np.complex64]:
        return rfft(responses, self._size).astype(np.complex64)

    def _still_filters(self, feed: ObjectFeed) -> NDArray[np.complex64]:
        """(object channels, 2, frequencies) of an object that stands still."""
        vectors, weights = head_directions(feed.where, np.zeros(1))
        spread = [self._head.responses(cell) for cell in vectors[0]]
        return self._spectra(np.stack([_gathered(responses, weights) for responses in spread]))

    def process(self, signals: Signals, first: int, frames: int) -> Block:
        segments = frames // GRID_FRAMES
        heard = np.zeros((2, segments, self._size // 2 + 1), dtype=np.complex64)
        diffuse = np.zeros_like(heard) if self._unlike else None
        for name, filters in self._bed_filters.items():
            bed = self._bed_sum(name, signals, first)
            if bed is not None:
                self._convolve(heard, bed, filters)
        for strip, turned, filters in self._scenes:
            if strip in signals:
                self._convolve(heard, turned.apply(signals[strip], first), filters)
        for feed, filters in self._still:
            if feed.strip in signals:
                self._placed(heard, diffuse, feed, signals[feed.strip], filters)
        # each crew sums on its own and all are added in order, so that who is quicker changes nothing
        works = [_threads(os.getpid()).submit(crew.heard, signals, first, frames) for crew in self._crews]
        for work in works:
            direct, lost = work.result()
            heard += direct
            if diffuse is not None and lost is not None:
                diffuse += lost
        out = self._lapped.add(irfft(heard, self._size))
        if self._unlike and diffuse is not None:
            out += self._unlike.process(self._apart.add(irfft(diffuse, self._size)))
        return out

    def _placed(
        self,
        heard: NDArray[np.complex64],
        diffuse: NDArray[np.complex64] | None,
        feed: ObjectFeed,
        block: Block,
        filters: NDArray[np.complex64],
    ) -> None:
        direct, lost = (np.float32(part[0]) for part in direct_and_diffuse(feed.where, np.zeros(1)))
        if direct:
            self._convolve(heard, block, filters * direct)
        if lost and diffuse is not None:
            self._convolve(diffuse, block, filters * lost)

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


@lru_cache(maxsize=1)
def _threads(process: int) -> ThreadPoolExecutor:
    """The threads of this process; one that was forked needs its own."""
    return ThreadPoolExecutor(_CREWS, "tail")


class _Moving:
    """An object on its way round the head. Its direction is looked at on every other grid point, even ones."""

    def __init__(self, feed: ObjectFeed, rate_hz: int) -> None:
        self.feed = feed
        self.weights = head_directions(feed.where, np.zeros(1))[1]
        self.key = self.weights.tobytes() if len(self.weights) > 1 else b""
        self._vectors = Ahead(lambda times_s: np.round(head_directions(feed.where, times_s)[0], 5), rate_hz)
        self._parts = Ahead(lambda times_s: np.stack(direct_and_diffuse(feed.where, times_s), axis=1), rate_hz)

    def vectors(self, first: int, frames: int) -> NDArray[np.float64]:
        """The directions at the even grid points from the one at or before a block to the one at or after it."""
        begin = first - first % (2 * GRID_FRAMES)
        end = -(-(first + frames) // (2 * GRID_FRAMES)) * 2 * GRID_FRAMES
        return self._vectors.get(begin, end - begin)[::2]

    def parts(self, first: int, frames: int) -> tuple[NDArray[np.float32], NDArray[np.float32] | None]:
        """The gains of what keeps its direction and of what has lost it; None where nothing has."""
        both = self._parts.get(first, frames).astype(np.float32)
        return both[:, 0], both[:, 1] if self.feed.where.is_diffuse else None


class _Crew:
    """Some of the moving objects, worked on in a thread of their own."""

    def __init__(self, moving: Sequence[_Moving], head: Head, size: int) -> None:
        self._moving = moving
        self._head = head
        self._size = size
        self._kept: dict[bytes, NDArray[np.complex64]] = {}

    def heard(
        self, signals: Signals, first: int, frames: int
    ) -> tuple[NDArray[np.complex64], NDArray[np.complex64] | None]:
        """The spectra of what both ears hear, (2, grid steps, frequencies), directly and of what is diffuse."""
        segments = frames // GRID_FRAMES
        heard = np.zeros((2, segments, self._size // 2 + 1), dtype=np.complex64)
        diffuse = np.zeros_like(heard) if any(each.feed.where.is_diffuse for each in self._moving) else None
        moving = [each for each in self._moving if each.feed.strip in signals]
        for each, filters in zip(moving, self._filters(moving, first, frames) if moving else (), strict=True):
            pieces = signals[each.feed.strip].reshape(-1, segments, GRID_FRAMES)
            later = rfft(pieces * RAMP, self._size)
            now = rfft(pieces, self._size) - later
            direct, lost = each.parts(first, frames)
            for channel in range(len(pieces)):
                responses = filters[:, channel].transpose(1, 0, 2)
                if lost is None or diffuse is None:
                    heard += responses[:, :-1] * now[channel]
                    heard += responses[:, 1:] * later[channel]
                    continue
                for into, gains in ((heard, direct), (diffuse, lost)):
                    scaled = responses * gains[:, None]
                    into += scaled[:, :-1] * now[channel] + scaled[:, 1:] * later[channel]
        return heard, diffuse

    def _filters(self, moving: Sequence[_Moving], first: int, frames: int) -> list[NDArray[np.complex64]]:
        """(grid points, object channels, 2, frequencies) of each object; what is not known is asked for at once.

        Odd grid points have the mean of their neighbours.
        """
        wanted: list[list[bytes]] = []
        new: dict[bytes, tuple[NDArray[np.float64], NDArray[np.float64]]] = {}
        for each in moving:
            vectors = each.vectors(first, frames)
            keys = []
            for cell in vectors.reshape(-1, *vectors.shape[2:]):
                key = cell.tobytes() + each.key
                if key not in self._kept and key not in new:
                    new[key] = cell, each.weights
                keys.append(key)
            wanted.append(keys)
        if new:
            spectra = self._head.spectra(np.concatenate([cell for cell, _ in new.values()]), self._size)
            at = 0
            for key, (cell, weights) in new.items():
                self._kept[key] = _gathered_spectra(spectra[at : at + len(cell)], weights)
                at += len(cell)
        count, odd = frames // GRID_FRAMES + 1, first // GRID_FRAMES % 2
        answer = []
        for each, keys in zip(moving, wanted, strict=True):
            even = np.array([self._kept[key] for key in keys])
            even = even.reshape(-1, len(each.feed.where.offsets_deg), 2, self._size // 2 + 1)
            every = np.empty((2 * len(even) - 1, *even.shape[1:]), dtype=np.complex64)
            every[::2] = even
            every[1::2] = np.float32(0.5) * (even[:-1] + even[1:])
            answer.append(every[odd : odd + count])
        while len(self._kept) > _KEPT_DIRECTIONS:
            self._kept.pop(next(iter(self._kept)))
        return answer


def _gathered_spectra(spectra: NDArray[np.complex64], weights: NDArray[np.float64]) -> NDArray[np.complex64]:
    """As `_gathered`, of spectra (directions, 2, frequencies)."""
    if len(spectra) == 1:
        return spectra[0]
    mean = np.einsum("n,nef->ef", weights.astype(np.float32), spectra)
    energy = np.sum(weights * np.sum(np.abs(spectra) ** 2, axis=(1, 2)))
    return (mean * np.float32(np.sqrt(energy / max(float(np.sum(np.abs(mean) ** 2)), 1e-12)))).astype(np.complex64)


def _gathered(responses: NDArray[np.float32], weights: NDArray[np.float64]) -> NDArray[np.float32]:
    """What both ears hear, (2, taps), of directions that share a sound's power: one response of their mean energy."""
    if len(responses) == 1:
        return responses[0]
    mean = np.einsum("n,net->et", weights, responses)
    energy = np.sum(weights * np.sum(responses**2, axis=(1, 2)))
    return (mean * np.sqrt(energy / max(float(np.sum(mean**2)), 1e-12))).astype(np.float32)
