"""Headphones: beds as loudspeakers round the head, objects from where they are, scenes all round.

Everything is convolved with the measured head in pieces of one grid step. A source that moves is
heard by the responses of where it is looked at, every two steps; what comes of them passes over in
a straight line, which all sources have in common, so that it is drawn once for their sum.
"""

from collections.abc import Iterator, Mapping, Sequence

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
_SHORT = 8 * GRID_FRAMES  # blocks up to which what was heard before is kept
_AT_ONCE = 128  # pieces of objects: many enough to be asked for at once, few enough to stay near


class BinauralRenderer:
    """Headphones. LFE has no direction; it is at both ears, at its share."""

    def __init__(self, feeds: Sequence[Feed], head: Head, shares: Shares) -> None:
        self._head = head
        self._size = next_fast_len(GRID_FRAMES + head.taps - 1, real=True)
        rate_hz = head.rate_hz
        objects = [feed for feed in feeds if isinstance(feed, ObjectFeed)]
        self._itself = _Heard(self._size)
        # what is wide is heard as the sound and a copy unlike it; what is diffuse apart at each ear
        self._copy = self._diffuse = None
        if any(feed.where.is_wide for feed in objects):
            self._copy = _Heard(self._size, decorrelators(3, rate_hz)[[2, 2]])
        if any(feed.where.is_diffuse for feed in objects):
            self._diffuse = _Heard(self._size, decorrelators(2, rate_hz))
        self._beds = [
            (feed.strip, Mixer(feed.gains, rate_hz), feed.layout)
            for feed in feeds
            if isinstance(feed, BedFeed)
        ]
        self._bed_ways = {
            layout.name: self._ways(loudspeaker_responses(head, layout.name, shares.lfe))
            for _, _, layout in self._beds
        }
        self._scenes = [
            (
                feed.strip,
                Mixer(Gains(feed.rotation_at, feed.curves, feed), rate_hz),
                self._ways(scene_responses(head, feed.order, feed.weighting)),
            )
            for feed in feeds
            if isinstance(feed, SceneFeed)
        ]
        self._still = [(feed.strip, self._still_ways(feed)) for feed in objects if not feed.moves]
        self._moving = [_Moving(feed, rate_hz) for feed in objects if feed.moves]

    def _ways(self, responses: NDArray[np.float32]) -> "_StillWays":
        """What plays on loudspeakers round the head, (channels, 2, taps)."""
        return [[(self._itself, own)] if own.any() else [] for own in self._spectra(responses)]

    def _spectra(self, responses: NDArray[np.float32]) -> Spectra:
        result: Spectra = rfft(responses, self._size).astype(np.complex64)
        return result

    def _still_ways(self, feed: ObjectFeed) -> "_StillWays":
        """What is heard of an object that stands still."""
        vectors, weights = head_directions(feed.where, np.zeros(1))
        channels, count = vectors.shape[1:3]
        copy: Spectra | None = None
        if count == 1:
            itself = self._spectra(self._head.responses(vectors[0, :, 0]))
        else:
            ends = count * np.arange(1, channels + 1)
            flat = vectors[0].reshape(-1, 3)
            itself, copy = self._head.spectra(flat, np.tile(weights, channels), ends, self._size)
        direct, lost = (np.float32(part[0]) for part in direct_and_diffuse(feed.where, np.zeros(1)))
        parts = (self._itself, itself, direct), (self._copy, copy, direct)
        return [
            [
                (heard, own[channel] * share)
                for heard, own, share in (*parts, (self._diffuse, itself, lost))
                if heard and own is not None and share
            ]
            for channel in range(channels)
        ]

    def process(self, signals: Mapping[str, Block], first: int, frames: int) -> Block:
        """Play `frames` frames from frame `first` of the mix; gives (channels, frames)."""
        count = frames // GRID_FRAMES
        every = [heard for heard in (self._itself, self._copy, self._diffuse) if heard]
        for heard in every:
            heard.begin(count)
        still = [
            (channel.reshape(count, GRID_FRAMES), way)
            for block, ways in self._standing(signals, first)
            for channel, way in zip(block, ways, strict=True)
            if way and has_sound(channel)
        ]
        most = max(_AT_ONCE // count, 1)
        for some in (still[i : i + most] for i in range(0, len(still), most)):
            spectra = self._spectra_of([channel for channel, _ in some])
            for (_, way), part in zip(some, spectra, strict=True):
                for heard, filters in way:
                    heard.add(part, filters)
        moving = [one for one in self._moving if one.strip in signals]
        moving = [one for one in moving if has_sound(signals[one.strip])]
        for crew in (moving[i : i + most] for i in range(0, len(moving), most)):
            self._moved(crew, signals, first, frames)
        out = every[0].sound(first)
        for heard in every[1:]:
            out += heard.sound(first)
        return out

    def _standing(
        self, signals: Mapping[str, Block], first: int
    ) -> Iterator[tuple[Block, "_StillWays"]]:
        """What is heard from where it stands, and its ways to the ears."""
        for name, ways in self._bed_ways.items():
            bed = self._bed_sum(name, signals, first)
            if bed is not None:
                yield bed, ways
        for strip, turned, ways in self._scenes:
            if strip in signals:
                yield turned.apply(signals[strip], first), ways
        for strip, ways in self._still:
            if strip in signals:
                yield signals[strip], ways

    def _bed_sum(self, layout: str, signals: Mapping[str, Block], first: int) -> Block | None:
        """The sum of all that plays on one layout's loudspeakers.

        So that each is convolved once.
        """
        total: Block | None = None
        for strip, mixer, bed in self._beds:
            if bed.name != layout or strip not in signals:
                continue
            if total is None:
                total = mixer.apply(signals[strip], first)
            else:
                mixer.add(total, signals[strip], first)
        return total

    def _spectra_of(self, channels: Sequence[Block]) -> Spectra:
        """(channels, pieces, frequencies) of channels cut in pieces, (pieces, frames) each."""
        padded = np.zeros((len(channels), len(channels[0]), self._size), dtype=np.float32)
        np.stack(channels, out=padded[..., :GRID_FRAMES])
        result: Spectra = rfft(padded)
        return result

    def _moved(
        self, some: Sequence["_Moving"], signals: Mapping[str, Block], first: int, frames: int
    ) -> None:
        """Add some of the objects that move."""
        self._look(some, first, frames)
        count = frames // GRID_FRAMES
        for lost in (False, True):
            crew = [one for one in some if one.where.is_diffuse] if lost else some
            if not crew:
                continue
            blocks = [one.part(signals[one.strip], first, lost) for one in crew]
            channels = [own.reshape(count, GRID_FRAMES) for block in blocks for own in block]
            spectra, at = self._spectra_of(channels), 0
            for one, block in zip(crew, blocks, strict=True):
                part = spectra[at : at + len(block)]
                at += len(block)
                lanes = (self._diffuse, None) if lost else (self._itself, self._copy)
                for heard, filters in zip(lanes, (one.itself, one.copy), strict=True):
                    if heard and filters is not None:
                        heard.add_moving(block, part, filters, one)

    def _look(self, some: Sequence["_Moving"], first: int, frames: int) -> None:
        """See where objects are in a block, and what is heard of them from there."""
        unknown = [one.look(first, frames) for one in some]
        counts = [np.full(d.shape[0] * d.shape[1], d.shape[2]) for d in unknown]
        if not sum(map(len, counts)):
            return
        flat = np.concatenate([d.reshape(-1, 4) for d in unknown])
        ends = np.cumsum(np.concatenate(counts))
        itself, copy = self._head.spectra(flat[:, :3], flat[:, 3], ends, self._size)
        at = 0
        for one, directions in zip(some, unknown, strict=True):
            rows = slice(at, at + directions.shape[0] * directions.shape[1])
            one.learn(directions, itself[rows], None if copy is None else copy[rows])
            at = rows.stop


# of each channel, what it is heard through: (2, frequencies)
_StillWays = list[list[tuple["_Heard", Spectra]]]


class _Moving:
    """An object on its way round the head.

    Where it is in a block, and what is heard from there: `itself`, (channels, points, 2,
    frequencies), and of what is wide its `copy`. `rows` are the points before each piece, where the
    piece lies on a straight line from one of the common points to the next; -1 elsewhere. `apart`
    are the others: the piece, its first point, and where its points are, counted from its
    beginning.
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
        self._points: Frames = np.zeros(0, dtype=np.int64)  # of the mix
        self.itself: Spectra = np.zeros((0, 0, 2, 0), dtype=np.complex64)
        self.copy: Spectra | None = None
        self.rows: Frames = self._points
        self.apart: list[tuple[int, int, Frames]] = []

    def _directions_at(self, times_s: NDArray[np.float64]) -> NDArray[np.float64]:
        """(times, channels, count, 4): a direction and the part of the power that comes from it."""
        vectors, parts = head_directions(self.where, times_s)
        return np.concatenate(
            [vectors, np.broadcast_to(parts[:, None], (*vectors.shape[:3], 1))], axis=3
        )

    def look(self, first: int, frames: int) -> NDArray[np.float64]:
        """Directions at the points of a block that were not in the one before.

        (channels, points, count, 4). Between the points at or before its beginning and at or after
        its end.
        """
        points, found = self._directions.get(first, frames)
        self._lie(points, first, frames)
        points = points + first
        known = int(np.searchsorted(self._points, points[0]))
        count = len(self._points) - known if frames <= _SHORT else 0
        if count and np.array_equal(self._points[known:], points[:count]):
            self.itself = self.itself[:, known:]
            self.copy = None if self.copy is None else self.copy[:, known:]
        else:
            count, self.itself, self.copy = 0, self.itself[:, :0], None
        self._points = points
        return found[count:].swapaxes(0, 1)

    def learn(self, directions: NDArray[np.float64], itself: Spectra, copy: Spectra | None) -> None:
        """Take what is heard from directions that were not known, by channels and points."""
        shape = (*directions.shape[:2], *itself.shape[1:])
        known = self.itself.shape[1]
        fresh = itself.reshape(shape)
        self.itself = np.concatenate([self.itself, fresh], axis=1) if known else fresh
        if copy is not None and directions.shape[2] > 1:
            fresh = copy.reshape(shape)
            self.copy = fresh if self.copy is None else np.concatenate([self.copy, fresh], axis=1)

    def _lie(self, points: Frames, first: int, frames: int) -> None:
        begins = np.arange(0, frames, GRID_FRAMES)
        self.rows, self.apart = (begins + first % _STEP) // _STEP, []
        if len(points) == self.rows[-1] + 2 and np.all(np.diff(points) == _STEP):
            return  # all of them are common ones
        before = np.searchsorted(points, begins, "right") - 1
        after = np.searchsorted(points, begins + GRID_FRAMES)
        straight = points[after] - points[before] == _STEP
        self.rows = np.where(straight, before, -1)
        for piece in np.flatnonzero(~straight):
            own = points[before[piece] : after[piece] + 1] - begins[piece]
            self.apart.append((int(piece), int(before[piece]), own))

    def part(self, block: Block, first: int, lost: bool) -> Block:
        """What of a block keeps its direction, or what of it has lost it."""
        if not self.where.is_diffuse:
            return block
        points, parts = self._parts.get(first, block.shape[1])
        line = np.interp(np.arange(block.shape[1]), points, parts[:, int(lost)])
        result: Block = block * line.astype(np.float32)
        return result


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
        self._rising = np.minimum(np.stack([along, along + np.float32(0.5)]), np.float32(1.0))
        self.begin(1)

    def begin(self, pieces: int) -> None:
        """Hear nothing in the next pieces so far."""
        self._spectra = np.zeros((2, pieces, self._size // 2 + 1), dtype=np.complex64)
        self._turning: Spectra | None = None  # what is to come, over two pieces, less what was

    def add(self, spectra: Spectra, filters: Spectra) -> None:
        """Add a channel, (pieces, frequencies), through a filter an ear."""
        _add_heard(self._spectra, filters, spectra)

    def add_moving(
        self, block: Block, spectra: Spectra, filters: Spectra, moving: "_Moving"
    ) -> None:
        """Add an object, also as (channels, pieces, frequencies), that goes from filter to filter.

        `filters` are its own or those of its copy.
        """
        if self._turning is None:
            self._turning = np.zeros_like(self._spectra)
        _add_turning(self._spectra, self._turning, spectra, filters, moving.rows)
        for piece, point, points in moving.apart:
            # steps and corners have a line of their own, along which the sound itself passes over
            begin, along = piece * GRID_FRAMES, np.arange(GRID_FRAMES)
            shares = np.stack([np.interp(along, points, one) for one in np.eye(len(points))])
            sound = block[:, None, begin : begin + GRID_FRAMES] * shares.astype(np.float32)
            own = filters[:, point : point + len(points)]
            heard = np.einsum("cpk,cpek->ek", rfft(sound, self._size), own)
            self._spectra[:, piece] += heard

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
    for channel in range(len(spectra)):
        for piece in range(len(rows)):
            row = rows[piece]
            if row < 0:
                continue
            part = spectra[channel, piece]
            for ear in range(2):
                one, two = filters[channel, row, ear], filters[channel, row + 1, ear]
                now, then = heard[ear, piece], turning[ear, piece]
                for k in range(len(part)):
                    by_one, by_two = one[k] * part[k], two[k] * part[k]
                    now[k] += by_one
                    then[k] += by_two - by_one
