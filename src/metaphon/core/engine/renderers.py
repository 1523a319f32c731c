"""The last step, one for each target: from the programme's feeds to the channels of a format."""

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Literal, Protocol

import numpy as np
from numpy.typing import NDArray

from metaphon.core.document.channel_mapping import loudspeakers_encoded
from metaphon.core.document.fold_down import FoldDown
from metaphon.core.document.targets import Target
from metaphon.core.dsp.block import Block
from metaphon.core.dsp.motion import Motion
from metaphon.core.dsp.phase_difference import quarter_turn
from metaphon.core.dsp.sections import Cascade, Sections, ring_s
from metaphon.core.engine.automation import Gains, Mixer
from metaphon.core.engine.binaural import BinauralRenderer
from metaphon.core.engine.decorrelator import Decorrelator
from metaphon.core.engine.object_panning import (
    direct_and_diffuse,
    layout_gains,
    scene_gains,
)
from metaphon.core.engine.plan import BedFeed, Feed, ObjectFeed, SceneFeed
from metaphon.core.spatial.ambisonics import channels_of
from metaphon.core.spatial.decoding import CROSSOVER_HZ, Weighting, decode_matrix
from metaphon.core.spatial.decorrelation import decorrelators
from metaphon.core.spatial.downmix import Shares, conversion, folded_behind
from metaphon.core.spatial.head import SHIPPED, load_head
from metaphon.core.spatial.layouts import Layout
from metaphon.core.spatial.panning import surrounds

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
    if _is_shifted(target, fold_down):
        return ShiftedRenderer(target, feeds, rate_hz, fold_down.shares)
    return MatrixRenderer(target, feeds, rate_hz, fold_down.shares)


def tail_frames(
    target: Target,
    feeds: Sequence[Feed],
    rate_hz: int,
    fold_down: FoldDown,
    head: Path,
    fall_db: float,
) -> int:
    """How many frames the renderer of a target sounds on by itself, until it has fallen so far.

    Parameters
    ----------
    target, feeds, rate_hz, fold_down, head
        As `renderer_for` takes them.
    fall_db
        How far it has to fall.
    """
    objects = [feed.where for feed in feeds if isinstance(feed, ObjectFeed)]
    on_head = target.name == "binaural"
    taps = load_head(head, rate_hz).taps if on_head else 0
    if any(where.is_diffuse or (on_head and where.is_wide) for where in objects):
        taps += decorrelators(1, rate_hz).shape[1]
    rings_s = 0.0
    if not on_head and _is_shifted(target, fold_down):
        rings_s = max(ring_s(turn, rate_hz, fall_db) for turn in quarter_turn(rate_hz))
    scenes = [feed for feed in feeds if isinstance(feed, SceneFeed)]
    if target.layout and any(feed.weighting == "dual_band" for feed in scenes):
        rings_s += ring_s(_below_crossover(rate_hz), rate_hz, fall_db)
    return taps + int(np.ceil(rings_s * rate_hz))


def _is_shifted(target: Target, fold_down: FoldDown) -> bool:
    return bool(fold_down.surround_shift and target.layout and not surrounds(target.layout))


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
        self._below: Motion[tuple[Sections, ...]] = Motion.still((_below_crossover(rate_hz),))
        self._cut = Cascade(outputs)

    def add(self, out: Block, block: Block, first: int) -> None:
        self._high.add(out, block, first)
        out += self._cut.process(self._more.apply(block, first), self._below)


def _below_crossover(rate_hz: int) -> Sections:
    """One pole; the other is met by a zero."""
    g = np.tan(np.pi * CROSSOVER_HZ / rate_hz)
    return np.array([[g, 2.0, 0.0, 1.0, 1.0]])


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
        return Mixer(
            Gains(
                lambda times_s: _converted(bed, panned.at(times_s), bool(target.layout)),
                panned.curves,
                key,
            ),
            rate_hz,
        )
    return Mixer(_object_gains(target, feed, shares, False), rate_hz)


def _converted(
    bed: NDArray[np.float64], panned: NDArray[np.float64], on_loudspeakers: bool
) -> NDArray[np.float64]:
    """What becomes of what is panned in a bed, (times, target channels, source channels).

    One sound in two loudspeakers that meet again in one adds up as an amplitude: so much is taken
    off that it is no louder than what they have in common with nobody.
    """
    met = bed @ panned
    if panned.shape[2] > 1 or not on_loudspeakers:
        return met
    apart = bed**2 @ panned**2
    loud, asked = (met**2).sum(axis=1, keepdims=True), apart.sum(axis=1, keepdims=True)
    result: NDArray[np.float64] = met * np.sqrt(np.minimum(asked / np.maximum(loud, 1e-24), 1.0))
    return result


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
