"""A mix made ready: every source found, every strip in order, every gain known. The same plan serves any target."""

from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from metaphon.core.engine.curves import Curve, Gains
from metaphon.core.errors import InputError
from metaphon.core.files.audio import probe
from metaphon.core.process.processor import Processor
from metaphon.core.scene.graph import aims, ordered
from metaphon.core.scene.mix import PROGRAMME, Bus, Mix, Strip, Track, automated
from metaphon.core.spatial.ambisonics import order_of
from metaphon.core.spatial.downmix import source_matrix
from metaphon.core.spatial.layouts import Layout, layout_for_channels, layout_named
from metaphon.core.spatial.panning import constant_power


@dataclass(frozen=True)
class Placed:
    """A clip's file and the frames of the mix it covers."""

    path: Path
    first: int
    frames: int
    channels: int


@dataclass(frozen=True)
class BedFeed:
    """Sound that enters the programme on the loudspeakers of a bed."""

    strip: str
    layout: Layout
    gains: Gains


@dataclass(frozen=True)
class ObjectFeed:
    """Sound that enters the programme from a direction, each channel offset by its own loudspeaker's angles."""

    strip: str
    azimuth_deg: Curve
    elevation_deg: Curve
    extent_deg: float
    offsets_deg: tuple[tuple[float, float], ...]

    @property
    def moves(self) -> bool:
        return self.azimuth_deg.moves or self.elevation_deg.moves

    def angles_at(self, times_s: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Azimuth and elevation of every channel, (times, channels) each."""
        azimuth, elevation = np.array(self.offsets_deg).T
        high = self.elevation_deg.at(times_s)[:, None] + elevation
        return self.azimuth_deg.at(times_s)[:, None] + azimuth, np.clip(high, -90.0, 90.0)


@dataclass(frozen=True)
class SceneFeed:
    """Sound that enters the programme as an ambisonic scene."""

    strip: str
    order: int


Feed = BedFeed | ObjectFeed | SceneFeed


@dataclass(frozen=True)
class Route:
    """A way from a strip to a bus: its level and how its channels enter."""

    bus: str
    gains: Gains
    level_db: Curve
    before_fader: bool


@dataclass(frozen=True)
class StripPlan:
    """One strip at work."""

    id: str
    name: str
    channels: int
    clips: tuple[Placed, ...]
    chain: tuple[Processor, ...]
    silent: bool
    fader_db: Curve
    routes: tuple[Route, ...]
    feed: Feed | None


@dataclass(frozen=True)
class Plan:
    """All strips in working order. `frames` is the length with every tail; `longest_tail` lies within it."""

    title: str
    rate_hz: int
    frames: int
    longest_tail: int
    strips: tuple[StripPlan, ...]

    @cached_property
    def feeds(self) -> tuple[Feed, ...]:
        return tuple(strip.feed for strip in self.strips if strip.feed)

    @property
    def duration_s(self) -> float:
        return self.frames / self.rate_hz


def compile(mix: Mix) -> Plan:
    """Make a mix ready to render.

    Raises InputError for a missing or unfit file, a loop, or a mix with nothing to hear.
    """
    lanes = {automated(mix, lane): lane for lane in mix.automation}
    buses = {bus.id: bus for bus in mix.buses}
    strips = []
    end = 0
    tails: dict[str, float] = {}
    longest = 0.0
    for strip in ordered(mix):
        if isinstance(strip, Track) and strip.resting:
            continue
        clips = _placed(strip, mix.sample_rate_hz) if isinstance(strip, Track) else ()
        if isinstance(strip, Track) and not clips:
            continue
        end = max([end, *(clip.first + clip.frames for clip in clips)])
        tail = tails.get(strip.id, 0.0) + sum(processor.tail_s for processor in strip.chain)
        for aim in aims(strip):
            tails[aim] = max(tails.get(aim, 0.0), tail)
        longest = max(longest, tail)
        strips.append(_strip(strip, clips, lanes, buses))
    if end == 0:
        raise InputError(f"{mix.title} has no sound yet; bring in a recording and route it to the mix.")
    tail_frames = int(np.ceil(longest * mix.sample_rate_hz))
    return Plan(mix.title, mix.sample_rate_hz, end + tail_frames, tail_frames, tuple(strips))


def _placed(track: Track, rate_hz: int) -> tuple[Placed, ...]:
    placed = []
    for clip in track.clips:
        info = probe(clip.file)
        if info.sample_rate_hz != rate_hz:
            raise InputError(
                f"{clip.file.name} is at {info.sample_rate_hz} Hz, the mix at {rate_hz}; bring it in first."
            )
        placed.append(Placed(clip.file, round(clip.start_s * rate_hz), info.frames, info.channels))
    if len({clip.channels for clip in placed}) > 1:
        raise InputError(f"The clips of {track.name} differ in their number of channels; give each its own track.")
    return tuple(placed)


def _strip(strip: Strip, clips: tuple[Placed, ...], lanes: dict, buses: dict[str, Bus]) -> StripPlan:  # type: ignore[type-arg]
    def curve(parameter: str, value: float, bus: str = "") -> Curve:
        return Curve.of(value, lanes.get((strip.id, parameter, bus)))

    channels = layout_named(strip.layout).channels if isinstance(strip, Bus) else clips[0].channels
    azimuth = curve("azimuth_deg", strip.placement.azimuth_deg)
    elevation = curve("elevation_deg", strip.placement.elevation_deg)
    fader = curve("gain_db", strip.gain_db)
    routes = [
        Route(
            send.bus,
            _into(strip, channels, buses[send.bus].layout, azimuth),
            curve("level_db", send.level_db, send.bus),
            send.tap == "pre",
        )
        for send in strip.sends
    ]
    feed = None
    if strip.output == PROGRAMME:
        feed = _feed(strip, channels, azimuth, elevation)
    elif strip.output is not None:
        into = _into(strip, channels, buses[strip.output].layout, azimuth)
        routes.append(Route(strip.output, into, Curve((0.0,), (0.0,)), False))
    return StripPlan(strip.id, strip.name, channels, clips, strip.chain, strip.muted, fader, tuple(routes), feed)


def _own_layout(strip: Strip, channels: int) -> Layout:
    if isinstance(strip, Bus):
        return layout_named(strip.layout)
    try:
        return layout_for_channels(channels)
    except InputError as error:
        raise InputError(f"{strip.name}: {error}") from None


def _into(strip: Strip, channels: int, layout: str, azimuth: Curve) -> Gains:
    """How a strip enters a bus or bed: mono is panned to its azimuth, wider sources are converted."""
    if channels == 1 and azimuth.moves:
        there = layout_named(layout)
        return Gains(lambda times_s: constant_power(azimuth.at(times_s), there)[:, :, None], True)
    own = _own_layout(strip, channels)
    return Gains.fixed(source_matrix(own.name, layout, float(azimuth.at(np.zeros(1))[0])))


def _feed(strip: Strip, channels: int, azimuth: Curve, elevation: Curve) -> Feed | None:
    placement = strip.placement
    if placement.mode == "none":
        return None
    if placement.mode == "scene":
        try:
            return SceneFeed(strip.id, order_of(channels))
        except InputError as error:
            raise InputError(f"{strip.name}: {error}") from None
    if placement.mode == "bed":
        return BedFeed(strip.id, layout_named(placement.layout), _into(strip, channels, placement.layout, azimuth))
    own = _own_layout(strip, channels)
    if any(own.is_lfe):
        raise InputError(f"{strip.name} has an LFE channel, which has no direction; place it as a bed.")
    return ObjectFeed(strip.id, azimuth, elevation, placement.extent_deg, own.angles_deg)
