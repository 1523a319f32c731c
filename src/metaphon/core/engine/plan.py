"""A mix made ready: every source found, every strip in order, every gain known. The same plan serves any target."""

from collections.abc import Hashable
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from metaphon.core.engine.curves import GRID_FRAMES, Curve, Gains
from metaphon.core.errors import InputError
from metaphon.core.files.audio import probe
from metaphon.core.process.processor import Processor
from metaphon.core.scene.entering import entry, format_of, turned
from metaphon.core.scene.graph import Ways, open_ways, ordered
from metaphon.core.scene.mix import PROGRAMME, Automation, Mix, Strip, Track, automated
from metaphon.core.scene.targets import Target, bus_format, target_named
from metaphon.core.spatial.ambisonics import order_of
from metaphon.core.spatial.layouts import Layout


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
    """A way from a strip to a bus: where it is taken, its level, how its channels enter, and what it waits.

    `wait` is in frames: sound that gets to the bus by a quicker way than others waits for them.
    """

    bus: str
    gains: Gains
    level_db: Curve
    tap: Literal["strip", "pre", "post"]
    wait: int


@dataclass(frozen=True)
class StripPlan:
    """One strip at work.

    A strip works ahead of what is heard, so that the latency of processors, its own and those that follow, is
    made up for: it takes in what lies `ahead_in` frames later in the mix and gives out what lies `ahead_out`
    later; `pad` frames of delay fill what the chain's latency leaves of the difference. Both are multiples of
    the grid, so that values over time stay exact.
    """

    id: str
    name: str
    channels: int
    clips: tuple[Placed, ...]
    chain: tuple[Processor, ...]
    ahead_in: int
    ahead_out: int
    pad: int
    fader_db: Curve
    routes: tuple[Route, ...]
    feed: Feed | None

    @property
    def shape(self) -> Hashable:
        """What must be alike for a strip at work to go on by another plan."""
        ways = tuple((route.bus, route.tap, route.wait) for route in self.routes)
        fed = self.feed is not None
        return self.id, self.channels, self.clips, self.ahead_in, self.ahead_out, self.pad, ways, fed


@dataclass(frozen=True)
class Plan:
    """All strips that are heard, in working order.

    `frames` is the length with every tail; `longest_tail` lies within it. `latency_samples` is what the
    slowest way through the processors costs; it is made up for, so nothing comes out late.
    """

    title: str
    rate_hz: int
    frames: int
    longest_tail: int
    latency_samples: int
    strips: tuple[StripPlan, ...]

    @cached_property
    def feeds(self) -> tuple[Feed, ...]:
        return tuple(strip.feed for strip in self.strips if strip.feed)

    @cached_property
    def ahead(self) -> int:
        """How far the first strip works ahead, in frames."""
        return max((strip.ahead_in for strip in self.strips), default=0)

    @property
    def duration_s(self) -> float:
        return self.frames / self.rate_hz


def compile(mix: Mix) -> Plan:
    """Make a mix ready to render.

    Raises InputError for a missing or unfit file, a loop, or a mix with nothing to hear.
    """
    rate_hz = mix.sample_rate_hz
    order = ordered(mix)
    ways = open_ways(mix)
    clips = {strip.id: _placed(strip, rate_hz) for strip in order if isinstance(strip, Track) and not strip.resting}
    end = max((clip.first + clip.frames for placed in clips.values() for clip in placed), default=0)
    if end == 0:
        raise InputError(f"{mix.title} has no sound yet; bring in a recording and route it to the mix.")
    heard = _heard(order, ways, clips)
    ids = {strip.id for strip in heard}
    buses = {strip.id: [aim for aim in ways.out_of(strip.id) if aim in ids] for strip in heard}
    tails: dict[str, float] = {}
    for strip in heard:
        tails[strip.id] = tails.get(strip.id, 0.0) + sum(p.tail_s for p in at_work(strip))
        for aim in buses[strip.id]:
            tails[aim] = max(tails.get(aim, 0.0), tails[strip.id])
    ahead: dict[str, int] = {}
    lanes = {automated(mix, lane): lane for lane in mix.automation}
    formats = {bus.id: bus_format(bus.layout) for bus in mix.buses}
    strips = []
    for strip in reversed(heard):
        own = _own_latency(strip, rate_hz)
        out = max((ahead[aim] for aim in buses[strip.id]), default=0)
        ahead[strip.id] = out - own // -GRID_FRAMES * GRID_FRAMES  # rounded up to the grid
        strips.append(_strip(strip, clips.get(strip.id, ()), ways, lanes, formats, ahead, out, own))
    longest = int(np.ceil(max(tails.values(), default=0.0) * rate_hz))
    slowest = _slowest(heard, buses, rate_hz)
    return Plan(mix.title, rate_hz, end + longest, longest, slowest, tuple(reversed(strips)))


def latency_samples(mix: Mix) -> int:
    """What the slowest open way through the processors of a mix costs; no file is read.

    Raises InputError for a loop.
    """
    ways = open_ways(mix)
    awake = [strip for strip in ordered(mix) if not strip.resting]
    return _slowest(awake, {strip.id: list(ways.out_of(strip.id)) for strip in awake}, mix.sample_rate_hz)


def _slowest(strips: list[Strip], buses: dict[str, list[str]], rate_hz: int) -> int:
    """The latency of the slowest way through strips in working order, in samples."""
    found: dict[str, int] = {}
    for strip in reversed(strips):
        found[strip.id] = _own_latency(strip, rate_hz) + max((found[aim] for aim in buses[strip.id]), default=0)
    return max(found.values(), default=0)


def _own_latency(strip: Strip, rate_hz: int) -> int:
    return sum(processor.latency_samples(rate_hz) for processor in at_work(strip))


def at_work(strip: Strip) -> tuple[Processor, ...]:
    """The processors of a strip that are not bypassed."""
    return tuple(processor for processor in strip.chain if not processor.bypassed)


def _heard(order: list[Strip], ways: Ways, clips: dict[str, tuple[Placed, ...]]) -> list[Strip]:
    """The strips that have sound and whose sound gets somewhere, in working order."""
    sounding = {strip_id for strip_id, placed in clips.items() if placed}
    for strip in order:
        if strip.id in sounding:
            sounding.update(ways.out_of(strip.id))
    arriving: set[str] = set()
    for strip in reversed(order):
        placed = ways.outputs.get(strip.id) == PROGRAMME and strip.placement.mode != "none"
        if placed or any(aim in arriving for aim in ways.out_of(strip.id)):
            arriving.add(strip.id)
    return [strip for strip in order if strip.id in sounding & arriving and not strip.resting]


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


def _strip(
    strip: Strip,
    clips: tuple[Placed, ...],
    ways: Ways,
    lanes: dict[tuple[str, str, str], Automation],
    formats: dict[str, Target],
    ahead: dict[str, int],
    out: int,
    own: int,
) -> StripPlan:
    def curve(parameter: str, value: float, bus: str = "") -> Curve:
        return Curve.of(value, lanes.get((strip.id, parameter, bus)))

    azimuth = curve("azimuth_deg", strip.placement.azimuth_deg)
    elevation = curve("elevation_deg", strip.placement.elevation_deg)
    channels = clips[0].channels if clips else formats[strip.id].channels
    routes = []
    for send in ways.sends.get(strip.id, ()):
        if send.bus not in ahead:
            continue
        where = azimuth if send.azimuth_deg is None else Curve((0.0,), (send.azimuth_deg,))
        into = _into(strip, channels, formats[send.bus], where, elevation)
        if channels > 1 and send.azimuth_deg is not None:
            into = Gains.fixed(turned(format_of(strip, channels), formats[send.bus], send.azimuth_deg))
        taken = ahead[strip.id] if send.tap == "strip" else out
        level = curve("level_db", send.level_db, send.bus)
        routes.append(Route(send.bus, into, level, send.tap, taken - ahead[send.bus]))
    feed = None
    output = ways.outputs.get(strip.id)
    if output == PROGRAMME:
        feed = _feed(strip, channels, azimuth, elevation)
    elif output in ahead:
        into = _into(strip, channels, formats[output], azimuth, elevation)
        routes.append(Route(output, into, Curve((0.0,), (0.0,)), "post", out - ahead[output]))
    pad = ahead[strip.id] - out - own
    fader = curve("gain_db", strip.gain_db)
    return StripPlan(
        strip.id, strip.name, channels, clips, at_work(strip), ahead[strip.id], out, pad, fader, tuple(routes), feed
    )


def _into(strip: Strip, channels: int, aim: Target, azimuth: Curve, elevation: Curve) -> Gains:
    """How a strip enters a bus or bed: mono is panned to where it stands, wider sources are converted."""
    source = format_of(strip, channels)

    def gains(times_s: NDArray[np.float64]) -> NDArray[np.float64]:
        return entry(source, aim, azimuth.at(times_s), elevation.at(times_s))

    if channels == 1 and (azimuth.moves or (elevation.moves and aim.order is not None)):
        return Gains(gains, True, (source.name, aim.name, azimuth, elevation))
    return Gains.fixed(gains(np.zeros(1))[0])


def _feed(strip: Strip, channels: int, azimuth: Curve, elevation: Curve) -> Feed | None:
    placement = strip.placement
    if placement.mode == "none":
        return None
    own = format_of(strip, channels)
    if placement.mode == "scene":
        try:
            return SceneFeed(strip.id, own.order if own.order is not None else order_of(channels))
        except InputError as error:
            raise InputError(f"{strip.name}: {error}") from None
    if placement.mode == "bed":
        bed = target_named(placement.layout)
        assert bed.layout
        return BedFeed(strip.id, bed.layout, _into(strip, channels, bed, azimuth, elevation))
    if own.layout is None:
        raise InputError(f"{strip.name} is an ambisonic scene, which has no single direction; place it as a scene.")
    if any(own.layout.is_lfe):
        raise InputError(f"{strip.name} has an LFE channel, which has no direction; place it as a bed.")
    return ObjectFeed(strip.id, azimuth, elevation, placement.extent_deg, own.layout.angles_deg)
