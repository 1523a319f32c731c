"""The last step, one for each target: from the programme's feeds to the channels of a format."""

import os
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import lru_cache, partial
from pathlib import Path
from typing import Literal, Protocol

import numba
import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft, next_fast_len, rfft

from metaphon.core.document.channel_mapping import loudspeakers_encoded
from metaphon.core.document.fold_down import FoldDown
from metaphon.core.document.targets import Target
from metaphon.core.dsp.block import Block
from metaphon.core.dsp.highest import has_sound
from metaphon.core.dsp.motion import Motion
from metaphon.core.dsp.overlap_add import OverlapAdd
from metaphon.core.dsp.phase_difference import quarter_turn
from metaphon.core.dsp.sections import Cascade, Sections
from metaphon.core.engine.automation import GRID_FRAMES, Ahead, Frames, Gains, Mixer
from metaphon.core.engine.object_panning import (
    direct_and_diffuse,
    head_directions,
    layout_gains,
    scene_gains,
)
from metaphon.core.engine.plan import BedFeed, Feed, ObjectFeed, SceneFeed
from metaphon.core.spatial.ambisonics import channels_of
from metaphon.core.spatial.binaural import loudspeaker_responses, scene_responses
from metaphon.core.spatial.decoding import CROSSOVER_HZ, Weighting, decode_matrix
from metaphon.core.spatial.decorrelation import decorrelators
from metaphon.core.spatial.downmix import Shares, conversion, folded_behind
from metaphon.core.spatial.head import SHIPPED, Head, Spectra, load_head
from metaphon.core.spatial.layouts import Layout
from metaphon.core.spatial.panning import surrounds

_WORKERS = 2

Signals = Mapping[str, Block]


class Renderer(Protocol):
    """Turns what the strips feed into the programme, by strip id, into one target's channels."""

    def process(self, signals: Signals, first: int, frames: int) -> Block:
        """Play `frames` frames from frame `first` of the mix; gives (channels, frames)."""


def renderer_for(
    target: Target,
    feeds: Sequence[Feed],
    rate_hz: int,
    fold_down: FoldDown,
    head: Path = SHIPPED,
) -> Renderer:
    """Make the renderer of a target for these feeds.

    Parameters
    ----------
    target
        Loudspeakers, a scene or headphones.
    feeds
        What the strips put into the programme.
    rate_hz
        Of the mix.
    fold_down
        What is kept of what the target has no loudspeaker for.
    head
        Whose ears headphones are for, a SOFA file.

    Raises
    ------
    InputError
        Where the file of the head cannot be read.
    """
    if target.name == "binaural":
        return BinauralRenderer(feeds, load_head(head, rate_hz), fold_down.shares)
    if fold_down.surround_shift and target.layout and not surrounds(target.layout):
        return ShiftedRenderer(target, feeds, rate_hz, fold_down.shares)
    return MatrixRenderer(target, feeds, rate_hz, fold_down.shares)


Part = Literal["all", "front", "behind"]


class MatrixRenderer:
    """Loudspeakers and scenes: every feed has a matrix of gains to the target, fixed or moving.

    What has lost its direction goes to the same loudspeakers, each made unlike the others.

    `part` is which loudspeakers of beds are played: all, or the surrounds that a target plays in
    front, or all others.
    """

    def __init__(
        self,
        target: Target,
        feeds: Sequence[Feed],
        rate_hz: int,
        shares: Shares,
        part: Part = "all",
    ) -> None:
        self._channels = target.channels
        self._mixers = [(feed.strip, _mixer(target, feed, rate_hz, shares, part)) for feed in feeds]
        self._diffuse = [
            (feed.strip, Mixer(_object_gains(target, feed, shares, True), rate_hz))
            for feed in feeds
            if isinstance(feed, ObjectFeed) and feed.where.is_diffuse
        ]
        self._unlike = (
            Decorrelator(decorrelators(target.channels, rate_hz)) if self._diffuse else None
        )

    def process(self, signals: Signals, first: int, frames: int) -> Block:
        """Play `frames` frames from frame `first` of the mix; gives (channels, frames)."""
        out = np.zeros((self._channels, frames), dtype=np.float32)
        for strip, mixer in self._mixers:
            if strip in signals:
                mixer.add(out, signals[strip], first)
            elif isinstance(mixer, _DualBand):
                mixer.add(out, np.zeros((mixer.inputs, frames), dtype=np.float32), first)
        if self._unlike:
            lost = np.zeros_like(out)
            for strip, mixer in self._diffuse:
                if strip in signals:
                    mixer.add(lost, signals[strip], first)
            out += self._unlike.process(lost)
        return out


class ShiftedRenderer:
    """Loudspeakers in front, with the surrounds of beds a quarter turn behind all else.

    Both go through all-passes that differ by it, so levels and time stay.
    """

    def __init__(self, target: Target, feeds: Sequence[Feed], rate_hz: int, shares: Shares) -> None:
        beds = [feed for feed in feeds if isinstance(feed, BedFeed)]
        self._front = MatrixRenderer(target, feeds, rate_hz, shares, "front")
        self._behind = MatrixRenderer(target, beds, rate_hz, shares, "behind")
        self._turns: list[Motion[tuple[Sections, ...]]] = [
            Motion.still((turn,)) for turn in quarter_turn(rate_hz)
        ]
        self._passes = [Cascade(target.channels) for _ in self._turns]

    def process(self, signals: Signals, first: int, frames: int) -> Block:
        """Play `frames` frames from frame `first` of the mix; gives (channels, frames)."""
        parts = [part.process(signals, first, frames) for part in (self._front, self._behind)]
        front, behind = (
            passes.process(sound, turn)
            for passes, sound, turn in zip(self._passes, parts, self._turns, strict=True)
        )
        return front + behind


class Decorrelator:
    """Every channel through a filter of its own, (channels, taps), in pieces of one grid step."""

    def __init__(self, filters: NDArray[np.float32]) -> None:
        self._size = next_fast_len(GRID_FRAMES + filters.shape[1] - 1, real=True)
        self._spectra = rfft(filters, self._size).astype(np.complex64)[:, None]
        self._overlap_add = OverlapAdd(len(filters), self._size, GRID_FRAMES)

    def process(self, block: Block) -> Block:
        """Take and give (channels, frames), going on from the block before."""
        pieces = rfft(block.reshape(len(block), -1, GRID_FRAMES), self._size) * self._spectra
        return self._overlap_add.add(irfft(pieces, self._size))


class _DualBand:
    """A scene decoded in one way below the crossover and in another above (first order)."""

    def __init__(self, low: Gains, high: Gains, inputs: int, outputs: int, rate_hz: int) -> None:
        self.inputs = inputs
        self._high = Mixer(high, rate_hz)
        self._more = Mixer(
            Gains(
                lambda times_s: low.at(times_s) - high.at(times_s),
                low.curves,
                (low.key, high.key),
            ),
            rate_hz,
        )
        g = np.tan(np.pi * CROSSOVER_HZ / rate_hz)
        one_pole = np.array([[g, 2.0, 0.0, 1.0, 1.0]])  # the other pole is met by a zero
        self._below: Motion[tuple[Sections, ...]] = Motion.still((one_pole,))
        self._cut = Cascade(outputs)

    def add(self, out: Block, block: Block, first: int) -> None:
        self._high.add(out, block, first)
        out += self._cut.process(self._more.apply(block, first), self._below)


def _mixer(
    target: Target, feed: Feed, rate_hz: int, shares: Shares, part: Part
) -> "Mixer | _DualBand":
    if isinstance(feed, SceneFeed):
        if target.layout and feed.weighting == "dual_band":
            low, high = (_scene(target, feed, weighting) for weighting in ("basic", "max_re"))
            return _DualBand(low, high, channels_of(feed.order), target.channels, rate_hz)
        return Mixer(_scene(target, feed, feed.weighting), rate_hz)
    if isinstance(feed, BedFeed):
        bed, panned = _bed_matrix(feed.layout, target, shares, part), feed.gains
        key = (target.name, feed, shares, part)
        return Mixer(Gains(lambda times_s: bed @ panned.at(times_s), panned.curves, key), rate_hz)
    return Mixer(_object_gains(target, feed, shares, False), rate_hz)


def _scene(target: Target, feed: SceneFeed, weighting: Weighting) -> Gains:
    played = (
        decode_matrix(feed.order, target.layout, feed.decoder, weighting)
        if target.layout
        else np.eye(target.channels, channels_of(feed.order))
    )
    return Gains(
        lambda times_s: played @ feed.rotation_at(times_s),
        feed.curves,
        (target.name, feed, weighting),
    )


def _object_gains(target: Target, feed: ObjectFeed, shares: Shares, diffuse: bool) -> Gains:
    where = feed.where

    def gains(times_s: NDArray[np.float64]) -> NDArray[np.float64]:
        if target.layout:
            panned = layout_gains(where, target.layout, times_s, shares)
        else:
            assert target.order is not None
            panned = scene_gains(where, target.order, times_s)
        return panned * direct_and_diffuse(where, times_s)[diffuse][:, None, None]

    return Gains(gains, where.curves, (target.name, feed, shares, diffuse))


def _bed_matrix(bed: Layout, target: Target, shares: Shares, part: Part) -> NDArray[np.float64]:
    if target.layout:
        whole = conversion(bed.name, target.layout.name, shares)
        if part == "all":
            return whole
        folded = folded_behind(bed.name, target.layout.name)
        return np.where(folded == (part == "behind"), whole, 0.0)
    assert target.order is not None
    return loudspeakers_encoded(bed, target.order)


class BinauralRenderer:
    """Headphones.

    Beds as loudspeakers round the head, objects from where they are, scenes from all round.

    Everything is convolved with the measured head in pieces of one grid step, so a moving source
    passes from one pair of responses to the next without a click. LFE has no direction; it is at
    both ears, at its share.
    """

    def __init__(self, feeds: Sequence[Feed], head: Head, shares: Shares) -> None:
        self._head = head
        self._size = next_fast_len(GRID_FRAMES + head.taps - 1, real=True)
        self._overlap_add = OverlapAdd(2, self._size, GRID_FRAMES)
        rate_hz = head.rate_hz
        self._beds = [
            (feed.strip, Mixer(feed.gains, rate_hz), feed.layout)
            for feed in feeds
            if isinstance(feed, BedFeed)
        ]
        self._bed_filters = {
            layout.name: self._spectra(loudspeaker_responses(head, layout.name, shares.lfe))
            for _, _, layout in self._beds
        }
        objects = [feed for feed in feeds if isinstance(feed, ObjectFeed)]
        self._still = [(feed, self._still_filters(feed)) for feed in objects if not feed.moves]
        moving = [_Moving(feed, rate_hz) for feed in objects if feed.moves]
        self._workers = [
            _ObjectWorker(moving[i::_WORKERS], head, self._size)
            for i in range(_WORKERS)
            if moving[i::_WORKERS]
        ]
        scenes = [feed for feed in feeds if isinstance(feed, SceneFeed)]
        self._scenes = [
            (
                feed.strip,
                Mixer(Gains(feed.rotation_at, feed.curves, feed), rate_hz),
                self._spectra(scene_responses(head, feed.order, feed.weighting)),
            )
            for feed in scenes
        ]
        # what is wide is heard as the sound and a copy unlike it; what is diffuse apart at each ear
        lanes: dict[str, NDArray[np.float32] | None] = {"itself": None}
        if any(feed.where.is_wide for feed in objects):
            lanes["copy"] = decorrelators(3, rate_hz)[[2, 2]]
        if any(feed.where.is_diffuse for feed in objects):
            lanes["diffuse"] = decorrelators(2, rate_hz)
        self._lanes = {
            name: (OverlapAdd(2, self._size, GRID_FRAMES), None if f is None else Decorrelator(f))
            for name, f in lanes.items()
        }

    def _spectra(self, responses: NDArray[np.float32]) -> NDArray[np.complex64]:
        result: NDArray[np.complex64] = rfft(responses, self._size).astype(np.complex64)
        return result

    def _still_filters(self, feed: ObjectFeed) -> tuple[Spectra, Spectra | None]:
        """What is heard of an object that stands still: itself, and of a copy if it is wide.

        (object channels, 2, frequencies) each.
        """
        vectors, weights = head_directions(feed.where, np.zeros(1))
        channels, count = vectors.shape[1:3]
        if count == 1:
            return self._spectra(self._head.responses(vectors[0, :, 0])), None
        ends = count * np.arange(1, channels + 1)
        flat = vectors[0].reshape(-1, 3)
        return self._head.spectra(flat, np.tile(weights, channels), ends, self._size)

    def process(self, signals: Signals, first: int, frames: int) -> Block:
        """Play `frames` frames from frame `first` of the mix; gives (channels, frames)."""
        shape = (2, frames // GRID_FRAMES, self._size // 2 + 1)
        heard = {name: np.zeros(shape, dtype=np.complex64) for name in self._lanes}
        for name, filters in self._bed_filters.items():
            bed = self._bed_sum(name, signals, first)
            if bed is not None:
                self._convolve(heard["itself"], bed, filters)
        for strip, turned, filters in self._scenes:
            if strip in signals:
                self._convolve(heard["itself"], turned.apply(signals[strip], first), filters)
        for feed, found in self._still:
            if feed.strip in signals:
                self._placed(heard, feed, signals[feed.strip], *found)
        # each crew sums on its own and all are added in order, so that who is quicker changes
        # nothing
        works = [partial(crew.heard, signals, first, frames) for crew in self._workers]
        for parts in _in_crews(works):
            for name, part in parts.items():
                heard[name] += part
        out = np.zeros((2, frames), dtype=np.float32)
        for name, (overlap_add, unlike) in self._lanes.items():
            sound = overlap_add.add(irfft(heard[name], self._size))
            out += unlike.process(sound) if unlike else sound
        return out

    def _placed(
        self,
        heard: dict[str, Spectra],
        feed: ObjectFeed,
        block: Block,
        itself: Spectra,
        copy: Spectra | None,
    ) -> None:
        direct, lost = (np.float32(part[0]) for part in direct_and_diffuse(feed.where, np.zeros(1)))
        if direct:
            self._convolve(heard["itself"], block, itself * direct)
        if direct and copy is not None:
            self._convolve(heard["copy"], block, copy * direct)
        if lost:
            self._convolve(heard["diffuse"], block, itself * lost)

    def _bed_sum(self, layout: str, signals: Signals, first: int) -> Block | None:
        """The sum of all that plays on one layout's loudspeakers.

        So that each is convolved once.
        """
        total: Block | None = None
        for strip, mixer, bed in self._beds:
            if bed.name == layout and strip in signals:
                part = mixer.apply(signals[strip], first)
                total = part if total is None else total + part
        return total

    def _convolve(
        self, heard: NDArray[np.complex64], block: Block, filters: NDArray[np.complex64]
    ) -> None:
        pieces = block.reshape(block.shape[0], -1, GRID_FRAMES)
        for channel, responses in zip(pieces, filters, strict=True):
            if responses.any() and has_sound(channel):
                _add_heard(heard, responses, rfft(channel, self._size))


def _in_crews(works: Sequence[Callable[[], dict[str, Spectra]]]) -> list[dict[str, Spectra]]:
    """The results of all crews in order, at once where there are cores to spare."""
    if len(works) < 2 or (os.cpu_count() or 1) <= _WORKERS:
        return [work() for work in works]
    return [future.result() for future in [_threads(os.getpid()).submit(work) for work in works]]


@lru_cache(maxsize=1)
def _threads(process: int) -> ThreadPoolExecutor:
    """The threads of this process; one that was forked needs its own."""
    return ThreadPoolExecutor(_WORKERS, "crews")


_STEP = 2 * GRID_FRAMES  # how often the direction of what moves is looked at
# objects: enough that threads seldom wait for each other, few enough to stay near the processor
_AT_ONCE = 2


class _Moving:
    """An object on its way round the head.

    Between two directions its responses pass over in a straight line.
    """

    def __init__(self, feed: ObjectFeed, rate_hz: int) -> None:
        self.strip = feed.strip
        self.where = feed.where
        self._parts = Ahead(
            lambda times_s: np.stack(direct_and_diffuse(feed.where, times_s), axis=1),
            (feed.where.diffuseness,),
            rate_hz,
        )
        self._directions = Ahead(self._directions_at, feed.where.curves, rate_hz, _STEP)

    def _directions_at(self, times_s: NDArray[np.float64]) -> NDArray[np.float64]:
        """(times, channels, count, 4): a direction and the part of the power that comes from it."""
        vectors, parts = head_directions(self.where, times_s)
        return np.concatenate(
            [vectors, np.broadcast_to(parts[:, None], (*vectors.shape[:3], 1))], axis=3
        )

    def directions(self, first: int, frames: int) -> tuple[Frames, NDArray[np.float64]]:
        """Where it is looked at, counted from a block's beginning, and the directions there.

        (points), and (channels, points, count, 4), from the point at or before the block to the one
        at or after it.
        """
        points, found = self._directions.get(first, frames)
        return points, found.swapaxes(0, 1)

    def part(self, block: Block, first: int, lost: bool) -> Block:
        """What of a block keeps its direction, or what of it has lost it."""
        if not self.where.is_diffuse:
            return block
        points, parts = self._parts.get(first, block.shape[1])
        line = np.interp(np.arange(block.shape[1]), points, parts[:, int(lost)])
        result: Block = block * line.astype(np.float32)
        return result


class _ObjectWorker:
    """Some of the moving objects, worked on in a thread of their own."""

    def __init__(self, moving: Sequence[_Moving], head: Head, size: int) -> None:
        self._moving = moving
        self._diffuse = [each for each in moving if each.where.is_diffuse]
        self._head = head
        self._size = size

    def heard(self, signals: Signals, first: int, frames: int) -> dict[str, Spectra]:
        """The spectra of what both ears hear, (2, grid steps, frequencies).

        Of the objects themselves, of copies of those that are wide, and of what is diffuse.
        """
        found: dict[str, Spectra] = {}
        self._sum(found, self._moving, signals, first, frames, False)
        if self._diffuse:
            self._sum(found, self._diffuse, signals, first, frames, True)
        return found

    def _sum(
        self,
        found: dict[str, Spectra],
        moving: Sequence[_Moving],
        signals: Signals,
        first: int,
        frames: int,
        lost: bool,
    ) -> None:
        moving = [each for each in moving if each.strip in signals]
        for some in (moving[i : i + _AT_ONCE] for i in range(0, len(moving), _AT_ONCE)):
            blocks = [each.part(signals[each.strip], first, lost) for each in some]
            looks = [each.directions(first, frames) for each in some]
            passing, place = self._passing(blocks, looks, frames // GRID_FRAMES)
            spectra = rfft(passing)
            itself, copy = self._filters([directions for _, directions in looks])
            for name, filters in (("itself", itself), ("copy", copy)):
                if filters is not None and not (lost and name == "copy"):
                    shape = (2, frames // GRID_FRAMES, self._size // 2 + 1)
                    lane = "diffuse" if lost else name
                    heard = found.setdefault(lane, np.zeros(shape, dtype=np.complex64))
                    _sum_up(heard, spectra, filters, place)

    def _passing(
        self,
        blocks: Sequence[Block],
        looks: Sequence[tuple[Frames, NDArray[np.float64]]],
        count: int,
    ) -> tuple[NDArray[np.float32], NDArray[np.int64]]:
        """What belongs to each point, (channels, points, pieces, size), and its row in filters."""
        pieces = np.arange(count)
        starts = [np.searchsorted(points, pieces * GRID_FRAMES, "right") - 1 for points, _ in looks]
        stops = [np.searchsorted(points, (pieces + 1) * GRID_FRAMES) for points, _ in looks]
        most = max(int((b - a).max()) for a, b in zip(starts, stops, strict=True)) + 1
        channels = sum(map(len, blocks))
        passing = np.zeros((channels, most, count, self._size), dtype=np.float32)
        place = np.empty((channels, most, count), dtype=np.int64)
        at = row = 0
        for block, (points, _), start in zip(blocks, looks, starts, strict=True):
            _split(block, points, start, passing[at : at + len(block)])
            own = np.minimum(start + np.arange(most)[:, None], len(points) - 1)
            for channel in range(len(block)):
                place[at + channel] = row + channel * len(points) + own
            at, row = at + len(block), row + len(block) * len(points)
        return passing, place

    def _filters(self, directions: Sequence[NDArray[np.float64]]) -> tuple[Spectra, Spectra | None]:
        """The spectra of all channels of some objects, (channels and points, 2, frequencies)."""
        counts = np.concatenate([np.full(d.shape[0] * d.shape[1], d.shape[2]) for d in directions])
        flat = np.concatenate([d.reshape(-1, 4) for d in directions])
        return self._head.spectra(flat[:, :3], flat[:, 3], np.cumsum(counts), self._size)


@numba.njit(cache=True, nogil=True, fastmath={"contract"})
def _split(block, points, starts, passing):  # type: ignore[no-untyped-def]
    """What of each piece belongs to each point, (channels, points, pieces, size).

    A point's part rises from the point before and falls to the one after.
    """
    pieces = passing.shape[2]
    length = block.shape[1] // pieces
    for piece in range(pieces):
        first = piece * length
        for n in range(passing.shape[1]):
            point = starts[piece] + n
            if point >= len(points):
                break
            for before in range(2):  # its rising side, then its falling one
                one = point - 1 if before == 0 else point
                two = one + 1
                if one < 0 or two >= len(points):
                    continue
                start, stop = max(points[one], first), min(points[two], first + length)
                slope = np.float32(1.0 / (points[two] - points[one]))
                for channel in range(len(block)):
                    sound, part = block[channel], passing[channel, n, piece]
                    for i in range(start, stop):
                        along = slope * np.float32(i - points[one])
                        part[i - first] += sound[i] * (along if before == 0 else 1 - along)


@numba.njit(cache=True, nogil=True, fastmath={"contract"})
def _add_heard(heard, responses, spectra):  # type: ignore[no-untyped-def]
    """Add what both ears hear, (2, pieces, frequencies), of pieces through two responses."""
    for ear in range(2):
        response = responses[ear]
        for piece in range(len(spectra)):
            into, part = heard[ear, piece], spectra[piece]
            for k in range(len(part)):
                into[k] += response[k] * part[k]


@numba.njit(cache=True, nogil=True, fastmath={"contract"})
def _sum_up(heard, passing, filters, place):  # type: ignore[no-untyped-def]
    """Add what both ears hear of what passes over from one filter to the next."""
    for channel in range(len(passing)):
        for n in range(passing.shape[1]):
            for piece in range(passing.shape[2]):
                part = passing[channel, n, piece]
                for ear in range(2):
                    response = filters[place[channel, n, piece], ear]
                    for k in range(len(part)):
                        heard[ear, piece, k] += response[k] * part[k]
