"""Headphones: beds as loudspeakers round the head, objects from where they are, scenes all round.

Everything is convolved with the measured head in pieces of one grid step. A source that moves is
heard by the responses of where it is looked at, every two steps; what comes of them passes over in
a straight line, which all sources have in common, so that it is drawn once for their sum.
"""

from collections.abc import Mapping, Sequence

import numba
import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft, next_fast_len, rfft

from metaphon.core.dsp.block import Block
from metaphon.core.dsp.highest import has_sound
from metaphon.core.dsp.overlap_add import OverlapAdd
from metaphon.core.engine.automation import GRID_FRAMES, Ahead, Frames, Gains, Mixer
from metaphon.core.engine.decorrelator import Decorrelator
from metaphon.core.engine.object_panning import direct_and_diffuse, head_directions
from metaphon.core.engine.plan import BedFeed, Feed, ObjectFeed, SceneFeed
from metaphon.core.spatial.binaural import loudspeaker_responses, scene_responses
from metaphon.core.spatial.decorrelation import decorrelators
from metaphon.core.spatial.downmix import Shares
from metaphon.core.spatial.head import Head, Spectra

_STEP = 2 * GRID_FRAMES  # how often the direction of what moves is looked at
_AT_ONCE = 128  # pieces of objects: many enough to be asked for at once, few enough to stay near


class BinauralRenderer:
    """Headphones. LFE has no direction; it is at both ears, at its share."""

    def __init__(self, feeds: Sequence[Feed], head: Head, shares: Shares) -> None:
        self._head = head
        self._size = next_fast_len(GRID_FRAMES + head.taps - 1, real=True)
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
        self._moving = [_Moving(feed, rate_hz) for feed in objects if feed.moves]
        scenes = [feed for feed in feeds if isinstance(feed, SceneFeed)]
        self._scenes = [
            (
                feed.strip,
                Mixer(Gains(feed.rotation_at, feed.curves, feed), rate_hz),
                self._spectra(scene_responses(head, feed.order, feed.weighting)),
            )
            for feed in scenes
        ]
        self._itself = _Heard(self._size)
        # what is wide is heard as the sound and a copy unlike it; what is diffuse apart at each ear
        self._copy = self._diffuse = None
        if any(feed.where.is_wide for feed in objects):
            self._copy = _Heard(self._size, decorrelators(3, rate_hz)[[2, 2]])
        if any(feed.where.is_diffuse for feed in objects):
            self._diffuse = _Heard(self._size, decorrelators(2, rate_hz))

    def _spectra(self, responses: NDArray[np.float32]) -> Spectra:
        result: Spectra = rfft(responses, self._size).astype(np.complex64)
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

    def process(self, signals: Mapping[str, Block], first: int, frames: int) -> Block:
        """Play `frames` frames from frame `first` of the mix; gives (channels, frames)."""
        every = [heard for heard in (self._itself, self._copy, self._diffuse) if heard]
        for heard in every:
            heard.begin(frames // GRID_FRAMES)
        for name, filters in self._bed_filters.items():
            bed = self._bed_sum(name, signals, first)
            if bed is not None:
                self._itself.add(bed, filters)
        for strip, turned, filters in self._scenes:
            if strip in signals:
                self._itself.add(turned.apply(signals[strip], first), filters)
        for feed, found in self._still:
            if feed.strip in signals:
                self._placed(feed, signals[feed.strip], *found)
        moving = [one for one in self._moving if one.strip in signals]
        moving = [one for one in moving if has_sound(signals[one.strip])]
        most = max(_AT_ONCE // (frames // GRID_FRAMES), 1)
        for some in (moving[i : i + most] for i in range(0, len(moving), most)):
            self._moved(some, signals, first, frames)
        out = every[0].sound(first)
        for heard in every[1:]:
            out += heard.sound(first)
        return out

    def _placed(
        self, feed: ObjectFeed, block: Block, itself: Spectra, copy: Spectra | None
    ) -> None:
        direct, lost = (np.float32(part[0]) for part in direct_and_diffuse(feed.where, np.zeros(1)))
        if direct:
            self._itself.add(block, itself * direct)
        if direct and self._copy and copy is not None:
            self._copy.add(block, copy * direct)
        if lost and self._diffuse:
            self._diffuse.add(block, itself * lost)

    def _bed_sum(self, layout: str, signals: Mapping[str, Block], first: int) -> Block | None:
        """The sum of all that plays on one layout's loudspeakers.

        So that each is convolved once.
        """
        total: Block | None = None
        for strip, mixer, bed in self._beds:
            if bed.name == layout and strip in signals:
                part = mixer.apply(signals[strip], first)
                total = part if total is None else total + part
        return total

    def _moved(
        self, some: Sequence["_Moving"], signals: Mapping[str, Block], first: int, frames: int
    ) -> None:
        """Add some of the objects that move."""
        blocks = [signals[one.strip] for one in some]
        looks = [one.directions(first, frames) for one in some]
        itself, copy = self._filters([directions for _, directions in looks])
        points, widths = [points for points, _ in looks], [len(block) for block in blocks]
        ways = _Ways(points, widths, first, frames)
        direct = [one.part(block, first, 0) for one, block in zip(some, blocks, strict=True)]
        self._itself.add_moving(direct, itself, ways)
        if self._copy and copy is not None:
            self._copy.add_moving(direct, copy, ways)
        if self._diffuse and any(one.where.is_diffuse for one in some):
            lost = [one.part(block, first, 1) for one, block in zip(some, blocks, strict=True)]
            self._diffuse.add_moving(lost, itself, ways)

    def _filters(self, directions: Sequence[NDArray[np.float64]]) -> tuple[Spectra, Spectra | None]:
        """The spectra of all channels of some objects, (channels and points, 2, frequencies)."""
        counts = np.concatenate([np.full(d.shape[0] * d.shape[1], d.shape[2]) for d in directions])
        flat = np.concatenate([d.reshape(-1, 4) for d in directions])
        return self._head.spectra(flat[:, :3], flat[:, 3], np.cumsum(counts), self._size)


class _Moving:
    """An object on its way round the head."""

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

    def part(self, block: Block, first: int, which: int) -> Block:
        """What of a block keeps its direction (0), or what of it has lost it (1)."""
        if not self.where.is_diffuse:
            return block if which == 0 else np.zeros_like(block)
        points, parts = self._parts.get(first, block.shape[1])
        line = np.interp(np.arange(block.shape[1]), points, parts[:, which])
        result: Block = block * line.astype(np.float32)
        return result


class _Ways:
    """Between which points each piece of some objects lies, by the rows of the points' filters.

    `rows`, (channels, pieces), are those of the point before, where the piece lies on a straight
    line from one of the common points to the next; -1 elsewhere. `apart` are the others: channel,
    piece, row of the first point, and where the points are, counted from the piece's beginning.
    """

    def __init__(
        self, looks: Sequence[Frames], widths: Sequence[int], first: int, frames: int
    ) -> None:
        begins = np.arange(0, frames, GRID_FRAMES)
        common = (begins + first % _STEP) // _STEP
        self.rows = np.empty((sum(widths), len(begins)), dtype=np.int64)
        self.apart: list[tuple[int, int, int, Frames]] = []
        channel = row = 0
        for points, width in zip(looks, widths, strict=True):
            straight = len(points) == common[-1] + 2  # all of them common ones
            for _ in range(width):
                if straight:
                    self.rows[channel] = row + common
                else:
                    self._look(channel, row, points, begins)
                channel, row = channel + 1, row + len(points)

    def _look(self, channel: int, row: int, points: Frames, begins: Frames) -> None:
        before = np.searchsorted(points, begins, "right") - 1
        after = np.searchsorted(points, begins + GRID_FRAMES)
        straight = points[after] - points[before] == _STEP
        self.rows[channel] = np.where(straight, row + before, -1)
        for piece in np.flatnonzero(~straight):
            own = points[before[piece] : after[piece] + 1] - begins[piece]
            self.apart.append((channel, int(piece), row + int(before[piece]), own))


class _Heard:
    """What both ears hear of what is convolved alike, as spectra of pieces that become sound.

    `unlike` are filters, one an ear, through which it goes in the end.
    """

    def __init__(self, size: int, unlike: NDArray[np.float32] | None = None) -> None:
        self._size = size
        self._overlap_add = OverlapAdd(2, size, GRID_FRAMES)
        self._unlike = None if unlike is None else Decorrelator(unlike)
        along = np.arange(size, dtype=np.float32) / np.float32(_STEP)
        # what still rings when the next point is reached stays with it
        self._rising = np.minimum(np.stack([along, along + np.float32(0.5)]), 1.0)
        self.begin(1)

    def begin(self, pieces: int) -> None:
        """Hear nothing in the next pieces so far."""
        self._spectra = np.zeros((2, pieces, self._size // 2 + 1), dtype=np.complex64)
        self._turning: Spectra | None = None  # what is to come, over two pieces, less what was

    def add(self, block: Block, filters: Spectra) -> None:
        """Add a block, each of its channels through a filter an ear."""
        pieces = block.reshape(len(block), -1, GRID_FRAMES)
        for channel, responses in zip(pieces, filters, strict=True):
            if responses.any() and has_sound(channel):
                _add_heard(self._spectra, responses, rfft(channel, self._size))

    def add_moving(self, blocks: Sequence[Block], filters: Spectra, ways: _Ways) -> None:
        """Add blocks of which each passes over from one filter to the next."""
        if self._turning is None:
            self._turning = np.zeros_like(self._spectra)
        channels, count = ways.rows.shape
        pieces = np.zeros((channels, count, self._size), dtype=np.float32)
        sound = pieces[:, :, :GRID_FRAMES]
        np.concatenate([b.reshape(-1, count, GRID_FRAMES) for b in blocks], out=sound)
        _add_turning(self._spectra, self._turning, rfft(pieces), filters, ways.rows)
        for channel, piece, row, points in ways.apart:
            # steps and corners have a line of their own, along which the sound itself passes over
            along = np.arange(GRID_FRAMES)
            shares = np.stack([np.interp(along, points, one) for one in np.eye(len(points))])
            parts = rfft(shares.astype(np.float32) * sound[channel, piece], self._size)
            own = filters[row : row + len(points)]
            self._spectra[:, piece] += np.einsum("pk,pek->ek", parts, own)

    def sound(self, first: int) -> Block:
        """What is heard, (2, frames), of pieces that begin at a frame of the mix."""
        sound = irfft(self._spectra, self._size)
        if self._turning is not None:
            halves = (first // GRID_FRAMES + np.arange(sound.shape[1])) % 2
            sound += irfft(self._turning, self._size) * self._rising[halves]
        heard = self._overlap_add.add(sound)
        return self._unlike.process(heard) if self._unlike else heard


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
def _add_turning(heard, turning, spectra, filters, rows):  # type: ignore[no-untyped-def]
    """Add what both ears hear by the filters before, and by how much those after differ."""
    for channel in range(len(rows)):
        for piece in range(rows.shape[1]):
            row = rows[channel, piece]
            if row < 0:
                continue
            part = spectra[channel, piece]
            for ear in range(2):
                one, two = filters[row, ear], filters[row + 1, ear]
                now, then = heard[ear, piece], turning[ear, piece]
                for k in range(len(part)):
                    by_one, by_two = one[k] * part[k], two[k] * part[k]
                    now[k] += by_one
                    then[k] += by_two - by_one
