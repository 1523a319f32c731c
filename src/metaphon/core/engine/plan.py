"""A mix made ready: every source found, every strip in order, every gain known.

The same plan serves any target.
"""

from collections.abc import Callable, Hashable, Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property, lru_cache
from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from metaphon.core.document.channel_mapping import format_of, is_panned, mapping_gains, turned_gains
from metaphon.core.document.fold_down import FoldDown
from metaphon.core.document.graph import OpenRoutes, open_routes, ordered
from metaphon.core.document.held_tails import let_go
from metaphon.core.document.marker import Marker
from metaphon.core.document.mix import PROGRAMME, Automation, Mix, Placement, Strip, Track
from metaphon.core.document.playable import require_placeable
from metaphon.core.document.positions import FORMS
from metaphon.core.document.start_time import start_s
from metaphon.core.document.targets import Target, bus_format, target_named
from metaphon.core.document.tempo import in_time
from metaphon.core.document.value_paths import LanePath, lane_path, with_value_at
from metaphon.core.engine.automation import GRID_FRAMES, Curve, Gains
from metaphon.core.engine.clips import Placed, placed
from metaphon.core.engine.distance import DistanceEffect, distance_effect, distance_is_heard
from metaphon.core.engine.object_panning import ObjectPosition
from metaphon.core.engine.object_room import CHANNELS, MOVING, ORDER, RoomRun
from metaphon.core.errors import InputError
from metaphon.core.process.basics import Slope
from metaphon.core.process.eq import Band, Eq
from metaphon.core.process.processor import FORGOTTEN_DB, Channels, Processor
from metaphon.core.spatial.ambisonics import order_of
from metaphon.core.spatial.decoding import Decoder, Weighting
from metaphon.core.spatial.downmix import Shares
from metaphon.core.spatial.layouts import LAYOUTS, Layout
from metaphon.core.spatial.rotation import scene_rotation

Lanes = Mapping[tuple[str, LanePath], Automation]
_LFE_BED = LAYOUTS["0+5+0"]
_LFE_SLOPE: Slope = "24"
QUIET_DB = 100.0  # tails end this far below what made them


@dataclass(frozen=True)
class BedFeed:
    """Sound that enters the programme on the loudspeakers of a bed."""

    strip: str
    layout: Layout
    gains: Gains


@dataclass(frozen=True)
class ObjectFeed:
    """Sound that enters the programme from a place.

    Each channel offset by its own loudspeaker's angles.
    """

    strip: str
    where: ObjectPosition

    @property
    def moves(self) -> bool:
        """Whether it changes in time."""
        return self.where.moves


@dataclass(frozen=True)
class SceneFeed:
    """Sound that enters the programme as an ambisonic scene, turned by angles that may move."""

    strip: str
    order: int
    yaw_deg: Curve
    pitch_deg: Curve
    roll_deg: Curve
    decoder: Decoder
    weighting: Weighting

    @property
    def curves(self) -> tuple[Curve, ...]:
        """All that may move of it."""
        return (self.yaw_deg, self.pitch_deg, self.roll_deg)

    @property
    def moves(self) -> bool:
        """Whether it changes in time."""
        return self.yaw_deg.moves or self.pitch_deg.moves or self.roll_deg.moves

    def rotation_at(self, times_s: NDArray[np.float64]) -> NDArray[np.float64]:
        """The matrices that turn it, (times, channels, channels)."""
        angles = np.stack(
            [curve.at(times_s) for curve in (self.yaw_deg, self.pitch_deg, self.roll_deg)], axis=1
        )
        return np.stack([scene_rotation(self.order, *np.round(row, 2).tolist()) for row in angles])


Feed = BedFeed | ObjectFeed | SceneFeed


@dataclass(frozen=True)
class Route:
    """A way from a strip to a bus.

    Where it is taken, its level, how its channels enter, and what it waits.

    `wait` is in frames: sound that gets to the bus by a quicker way than others waits for them.
    """

    bus: str
    gains: Gains
    level_db: Curve
    tap: Literal["strip", "pre", "post"]
    wait: int


@dataclass(frozen=True)
class ChainLane:
    """A parameter of a processor at work that moves.

    The number of the processor, the way to the parameter, its values.
    """

    processor: int
    path: LanePath
    curve: Curve


@dataclass(frozen=True)
class StripPlan:
    """One strip at work.

    A strip works ahead of what is heard, so that the latency of processors, its own and those that
    follow, is made up for: it takes in what lies `ahead_in` frames later in the mix and gives out
    what lies `ahead_out` later. The `latencies` of its processors lie between, each rounded up to
    the grid, so that a parameter that changes one need not change the plan.
    """

    id: str
    name: str
    format: Channels
    clips: tuple[Placed, ...]
    chain: tuple[Processor, ...]
    latencies: tuple[int, ...]
    ahead_in: int
    ahead_out: int
    chain_lanes: tuple[ChainLane, ...]
    fader_db: Curve
    routes: tuple[Route, ...]
    feed: Feed | None
    distance: DistanceEffect | None

    @property
    def channels(self) -> int:
        """How many channels it has."""
        return self.format.count

    @property
    def shape(self) -> Hashable:
        """What must be alike for a strip at work to go on by another plan."""
        ways = tuple((route.bus, route.tap, route.wait) for route in self.routes)
        fed = self.feed is not None, self.distance is not None
        return (
            self.id,
            self.format,
            self.clips,
            self.ahead_in,
            self.ahead_out,
            ways,
            fed,
        )


@dataclass(frozen=True)
class Plan:
    """All strips that are heard, in working order.

    `frames` is the length with every tail of its strips; `longest_tail` lies within it. `memory` is
    how far back its input reaches into its output. `latency_samples` is what the slowest way
    through the processors costs; it is made up for, so nothing comes out late. `is_endless`:
    something may be held for ever, so that the whole past is heard. `plays_on`: something is held
    at the end until a listener lets it go.
    """

    title: str
    rate_hz: int
    frames: int
    longest_tail: int
    memory: int
    is_endless: bool
    plays_on: bool
    latency_samples: int
    strips: tuple[StripPlan, ...]
    fold_down: FoldDown
    markers: tuple[Marker, ...]
    starts_s: float  # by timecode

    @cached_property
    def feeds(self) -> tuple[Feed, ...]:
        """What enters the programme, in working order."""
        return tuple(strip.feed for strip in self.strips if strip.feed)

    @cached_property
    def ahead(self) -> int:
        """How far the first strip works ahead, in frames."""
        return max((strip.ahead_in for strip in self.strips), default=0)

    @property
    def duration_s(self) -> float:
        """Its length in seconds."""
        return self.frames / self.rate_hz


def compile(mix: Mix, by_hand: bool = False) -> Plan:
    """Make a mix ready to render: strips in working order, latency made up for, recordings opened.

    `by_hand`: somebody listens, who may let go what is held at the end.

    Raises
    ------
    InputError
        For a missing or unfit file, a loop, or a mix with nothing to hear.
    """
    mix, rate_hz = in_time(mix), mix.sample_rate_hz
    heard, clips, buses, lanes, moving, end, longest, plays_on = _sounding(mix, by_hand)
    memory = _longest(
        heard, buses, lambda strip: _memory_s(strip, moving[strip.id], lanes, rate_hz)
    )
    ways = open_routes(mix)
    ahead: dict[str, int] = {}
    formats = {bus.id: bus_format(bus.layout) for bus in mix.buses}
    strips = []
    for strip in reversed(heard):
        out = max((ahead[aim] for aim in buses[strip.id]), default=0)
        latencies = _latencies(strip, moving[strip.id], rate_hz)
        ahead[strip.id] = out + sum(latencies)
        chain = _Chain(at_work(strip), latencies, moving[strip.id])
        strips.append(
            _strip(
                strip,
                clips.get(strip.id, ()),
                ways,
                lanes,
                formats,
                ahead,
                out,
                chain,
                mix.fold_down.shares,
            )
        )
    slowest = _slowest(heard, buses, rate_hz)
    low = [_to_lfe(strip, lanes) for strip in heard if strip.id in ways.lfe]
    rooms = [_in_room(strip, lanes) for strip in heard if _is_reflected(strip, ways)]
    return Plan(
        mix.title,
        rate_hz,
        end + longest,
        longest,
        int(np.ceil(memory * rate_hz)),
        any(_is_endless(strip, moving[strip.id]) for strip in heard),
        plays_on,
        slowest,
        (*reversed(strips), *low, *rooms),
        mix.fold_down,
        mix.markers,
        start_s(mix),
    )


def length_frames(mix: Mix) -> int:
    """How long a mix sounds, every tail included.

    Raises InputError for a missing or unfit file, a loop, or a mix with nothing to hear.
    """
    sounding = _sounding(in_time(mix))
    return sounding.end + sounding.longest_tail


class _Sounding(NamedTuple):
    """What of a mix is heard and until when, in working order: recordings, ways and lanes."""

    strips: list[Strip]
    clips: dict[str, tuple[Placed, ...]]
    buses: dict[str, list[str]]
    lanes: Lanes
    moving: dict[str, tuple[ChainLane, ...]]  # of the processors of each strip
    end: int
    longest_tail: int
    plays_on: bool


def _sounding(mix: Mix, by_hand: bool = False) -> _Sounding:
    order = ordered(mix)
    ways = open_routes(mix)
    awake = [strip for strip in order if isinstance(strip, Track) and not strip.resting]
    clips = {track.id: placed(track, mix.sample_rate_hz) for track in awake}
    end = max((clip.first + clip.frames for own in clips.values() for clip in own), default=0)
    if end == 0:
        raise InputError(
            f"{mix.title} has no sound yet; bring in a recording and route it to the mix."
        )
    heard = _heard(order, ways, clips)
    ids = {strip.id for strip in heard}
    mix, last_s = let_go(mix, ids, end / mix.sample_rate_hz, by_hand)
    end = end if last_s is None else max(end, int(np.ceil(last_s * mix.sample_rate_hz)))
    buses = {
        strip.id: [aim for aim in ways.buses_reached_from(strip.id) if aim in ids]
        for strip in heard
    }
    by_id = {strip.id: strip for strip in mix.strips}
    lanes = {lane_path(lane.target, by_id): lane for lane in mix.automation}
    moving = {strip.id: _chain_lanes(strip, lanes) for strip in heard}
    rate_hz = mix.sample_rate_hz
    tail_s = _longest(
        heard, buses, lambda strip: _tail_s(strip, moving[strip.id], lanes, rate_hz, QUIET_DB)
    )
    longest = int(np.ceil(tail_s * rate_hz))
    return _Sounding(heard, clips, buses, lanes, moving, end, longest, last_s is None)


def latency_samples(mix: Mix) -> int:
    """What the slowest open way through the processors of a mix costs; no file is read.

    Raises InputError for a loop.
    """
    ways = open_routes(mix)
    awake = [strip for strip in ordered(mix) if not strip.resting]
    return _slowest(
        awake,
        {strip.id: list(ways.buses_reached_from(strip.id)) for strip in awake},
        mix.sample_rate_hz,
    )


def _slowest(strips: list[Strip], buses: dict[str, list[str]], rate_hz: int) -> int:
    """The latency of the slowest way through strips in working order, in samples."""
    found: dict[str, int] = {}
    for strip in reversed(strips):
        found[strip.id] = _own_latency(strip, rate_hz) + max(
            (found[aim] for aim in buses[strip.id]), default=0
        )
    return max(found.values(), default=0)


def _own_latency(strip: Strip, rate_hz: int) -> int:
    return sum(processor.latency_samples(rate_hz) for processor in at_work(strip))


def at_work(strip: Strip) -> tuple[Processor, ...]:
    """The processors of a strip that are not bypassed."""
    return tuple(processor for processor in strip.chain if not processor.bypassed)


def _heard(
    order: list[Strip], ways: OpenRoutes, clips: dict[str, tuple[Placed, ...]]
) -> list[Strip]:
    """The strips that have sound and whose sound gets somewhere, in working order."""
    sounding = {strip_id for strip_id, own in clips.items() if own}
    for strip in order:
        if strip.id in sounding:
            sounding.update(ways.buses_reached_from(strip.id))
    arriving: set[str] = set()
    for strip in reversed(order):
        enters = ways.outputs.get(strip.id) == PROGRAMME and strip.placement.mode != "none"
        if (
            enters
            or strip.id in ways.lfe
            or any(aim in arriving for aim in ways.buses_reached_from(strip.id))
        ):
            arriving.add(strip.id)
    return [strip for strip in order if strip.id in sounding & arriving and not strip.resting]


@dataclass(frozen=True)
class _Curves:
    """The parameters of one strip over time."""

    strip_id: str
    lanes: Lanes

    def __call__(self, value: float, *path: str | int) -> Curve:
        return Curve.of(value, self.lanes.get((self.strip_id, path)))

    def of_placement(self, place: Placement, name: str) -> Curve:
        """One of a placement's; where no height is set it is as high as it is wide."""
        value, lane = getattr(place, name), self.lanes.get((self.strip_id, ("placement", name)))
        if lane is None and value is None:
            return self.of_placement(place, "extent_deg")
        return Curve.of(value or 0.0, lane)


def _strip(
    strip: Strip,
    clips: tuple[Placed, ...],
    ways: OpenRoutes,
    lanes: Lanes,
    formats: dict[str, Target],
    ahead: dict[str, int],
    out: int,
    chain: "_Chain",
    shares: Shares,
) -> StripPlan:
    curve = _Curves(strip.id, lanes)
    azimuth = curve(strip.placement.azimuth_deg, "placement", "azimuth_deg")
    elevation = curve(strip.placement.elevation_deg, "placement", "elevation_deg")
    channels = clips[0].channels if clips else formats[strip.id].channels
    routes = []
    for send in ways.sends.get(strip.id, ()):
        if send.bus not in ahead:
            continue
        where = azimuth if send.azimuth_deg is None else Curve.of(send.azimuth_deg)
        into = _into(strip, channels, formats[send.bus], where, elevation, shares)
        if channels > 1 and send.azimuth_deg is not None:
            into = Gains.fixed(
                turned_gains(format_of(strip, channels), formats[send.bus], send.azimuth_deg)
            )
        taken = ahead[strip.id] if send.tap == "strip" else out
        level = curve(send.level_db, "sends", send.bus, "level_db")
        routes.append(Route(send.bus, into, level, send.tap, taken - ahead[send.bus]))
    if strip.id in ways.lfe:
        level = curve(strip.lfe.level_db, "lfe", "level_db")
        summed = Gains.fixed(_sum_gains(format_of(strip, channels))[None])
        routes.append(Route(_lfe_id(strip), summed, level, "post", out))
    if _is_reflected(strip, ways):
        level = curve(strip.placement.reflections_db, "placement", "reflections_db")
        into_room = np.zeros((CHANNELS, channels))
        into_room[0] = _sum_gains(format_of(strip, channels))
        routes.append(Route(_room_id(strip), Gains.fixed(into_room), level, "post", out))
    feed = None
    output = ways.outputs.get(strip.id)
    if output == PROGRAMME:
        feed = _feed(strip, channels, lanes, shares)
    elif output in ahead:
        into = _into(strip, channels, formats[output], azimuth, elevation, shares)
        routes.append(Route(output, into, Curve.of(0.0), "post", out - ahead[output]))
    fader = curve(strip.gain_db, "gain_db")
    away = distance_effect(feed.where) if isinstance(feed, ObjectFeed) else None
    return StripPlan(
        strip.id,
        strip.name,
        channels_of(strip, channels),
        clips,
        chain.processors,
        chain.latencies,
        ahead[strip.id],
        out,
        chain.lanes,
        fader,
        tuple(routes),
        feed,
        away,
    )


def _lfe_id(strip: Strip) -> str:
    return f"{strip.id}/lfe"


def _low_pass(strip: Strip) -> Eq:
    corner = Band(shape="high_cut", frequency_hz=strip.lfe.corner_hz, slope_db=_LFE_SLOPE)
    return Eq(bands=(corner,))


def _to_lfe(strip: Strip, lanes: Lanes) -> StripPlan:
    """What a strip sends to the LFE: a strip of its own behind the low-pass, on no other channel.

    It belongs to the stem of the strip that sends.
    """
    lane = lanes.get((strip.id, ("lfe", "corner_hz")))
    moving = (ChainLane(0, ("bands", 0, "frequency_hz"), Curve.of(0.0, lane)),) if lane else ()
    only_lfe = Gains.fixed(np.array(_LFE_BED.is_lfe, dtype=float)[:, None])
    return StripPlan(
        _lfe_id(strip),
        f"{strip.name}, LFE",
        Channels(1),
        (),
        (_low_pass(strip),),
        (0,),
        0,
        0,
        moving,
        Curve.of(0.0),
        (),
        BedFeed(_lfe_id(strip), _LFE_BED, only_lfe),
        None,
    )


def _room_id(strip: Strip) -> str:
    return f"{strip.id}/room"


def _is_reflected(strip: Strip, ways: OpenRoutes) -> bool:
    """Whether an object's first reflections are heard."""
    place = strip.placement
    return place.reflections and place.mode == "object" and ways.outputs.get(strip.id) == PROGRAMME


def _in_room(strip: Strip, lanes: Lanes) -> StripPlan:
    """The first reflections of an object: a strip of its own, which is heard as a scene.

    It belongs to the stem of the object.
    """
    curve = _Curves(strip.id, lanes)
    moving = tuple(
        ChainLane(0, (name,), curve.of_placement(strip.placement, name))
        for name in MOVING
        if (strip.id, ("placement", name)) in lanes
    )
    still = Curve.of(0.0)
    feed = SceneFeed(_room_id(strip), ORDER, still, still, still, "allrad", "max_re")
    return StripPlan(
        _room_id(strip),
        f"{strip.name}, room",
        Channels(CHANNELS, order=ORDER),
        (),
        (RoomRun.of(strip.placement),),
        (0,),
        0,
        0,
        moving,
        Curve.of(0.0),
        (),
        feed,
        None,
    )


def _sum_gains(source: Target) -> NDArray[np.float64]:
    """The gains that sum a format to one channel: without its LFE, and of a scene its omni."""
    gains: NDArray[np.float64]
    if source.layout is None:
        gains = np.eye(1, source.channels)[0]
    else:
        gains = np.where(source.layout.is_lfe, 0.0, 1.0)
    return gains


class _Chain(NamedTuple):
    """The processors of a strip at work, how late each is to be, and what of them moves."""

    processors: tuple[Processor, ...]
    latencies: tuple[int, ...]
    lanes: tuple[ChainLane, ...]


def channels_of(strip: Strip, count: int) -> Channels:
    """What the channels of a strip are, by how many it has."""
    try:
        own = format_of(strip, count)
    except InputError:  # so many channels fit nothing; they are worked on alike
        return Channels(count)
    if own.layout is None:
        return Channels(count, order=own.order)
    low = tuple(np.flatnonzero(own.layout.is_lfe).tolist())
    return Channels(count, low, angles_deg=own.layout.angles_deg)


def _chain_lanes(strip: Strip, lanes: Lanes) -> tuple[ChainLane, ...]:
    """What moves of the processors at work."""
    found = []
    working = [i for i, processor in enumerate(strip.chain) if not processor.bypassed]
    for (strip_id, path), lane in lanes.items():
        if strip_id == strip.id and path[0] == "chain" and path[1] in working:
            found.append(ChainLane(working.index(int(path[1])), path[2:], Curve.of(0.0, lane)))
    return tuple(found)


def _extremes(processor: Processor, lanes: list[ChainLane]) -> list[Processor]:
    """A processor as it is set, and with each lane at both ends of its range and just within."""
    found = [processor]
    for lane in lanes:
        low, high = float(lane.curve.values.min()), float(lane.curve.values.max())
        inside = (high - low) * 1e-3
        found += [
            with_value_at(processor, lane.path, value)
            for value in (low, low + inside, high - inside, high)
        ]
    return found


def _latencies(strip: Strip, lanes: tuple[ChainLane, ...], rate_hz: int) -> tuple[int, ...]:
    """How late each processor at work is to be: the most it ever needs, rounded up to the grid."""
    found = []
    for processor, own in _with_lanes(strip, lanes):
        most = max(one.latency_samples(rate_hz) for one in _extremes(processor, own))
        found.append(-(most // -GRID_FRAMES) * GRID_FRAMES)
    return tuple(found)


def _with_lanes(
    strip: Strip, lanes: tuple[ChainLane, ...]
) -> Iterator[tuple[Processor, list[ChainLane]]]:
    """The processors of a strip at work, each with what of it moves."""
    for number, processor in enumerate(at_work(strip)):
        yield processor, [lane for lane in lanes if lane.processor == number]


def _longest(
    heard: list[Strip], buses: dict[str, list[str]], own_s: Callable[[Strip], float]
) -> float:
    """The most that strips in working order take together on any way to the programme."""
    found: dict[str, float] = {}
    for strip in heard:
        found[strip.id] = found.get(strip.id, 0.0) + own_s(strip)
        for aim in buses[strip.id]:
            found[aim] = max(found.get(aim, 0.0), found[strip.id])
    return max(found.values(), default=0.0)


def _tail_s(
    strip: Strip, moving: tuple[ChainLane, ...], lanes: Lanes, rate_hz: int, fall_db: float
) -> float:
    """How long a strip sounds on, with its distance, its room and its way to the LFE."""
    chain_s = sum(
        max(one.tail_s(rate_hz, fall_db) for one in _extremes(processor, own))
        for processor, own in _with_lanes(strip, moving)
    )
    return chain_s + _aside_s(strip, lanes, rate_hz, fall_db)


def _memory_s(strip: Strip, moving: tuple[ChainLane, ...], lanes: Lanes, rate_hz: int) -> float:
    """How far back what a strip takes in reaches into what it gives out."""
    chain_s = sum(
        max(one.memory_s(rate_hz) for one in _extremes(processor, own))
        for processor, own in _with_lanes(strip, moving)
    )
    return chain_s + _aside_s(strip, lanes, rate_hz, FORGOTTEN_DB)


def _aside_s(strip: Strip, lanes: Lanes, rate_hz: int, fall_db: float) -> float:
    """How long a strip sounds on behind its fader."""
    place = strip.placement
    low_s = _low_pass(strip).tail_s(rate_hz, fall_db) if strip.lfe.on else 0.0
    room_s = (
        RoomRun.of(place).tail_s(rate_hz) if place.mode == "object" and place.reflections else 0.0
    )
    return _distance_tail_s(strip, lanes) + low_s + room_s


def _is_endless(strip: Strip, lanes: tuple[ChainLane, ...]) -> bool:
    return any(
        one.is_endless
        for processor, own in _with_lanes(strip, lanes)
        for one in _extremes(processor, own)
    )


def object_position(strip: Strip, own: Layout, lanes: Lanes) -> ObjectPosition:
    """Where an object is over time, by the form of its position that is used."""
    place = strip.placement

    curve = _Curves(strip.id, lanes)
    position = tuple(curve.of_placement(place, name) for name in FORMS[place.coordinates])
    pair, divergence, diffuseness = (
        curve.of_placement(place, name) for name in ("pair_deg", "divergence", "diffuseness")
    )
    return ObjectPosition(place, position, pair, divergence, diffuseness, own.angles_deg)


def _distance_tail_s(strip: Strip, lanes: Lanes) -> float:
    place = strip.placement
    if place.mode != "object" or strip.output != PROGRAMME or not distance_is_heard(place):
        return 0.0
    away = distance_effect(object_position(strip, LAYOUTS["0+1+0"], lanes))
    return away.tail_s if away else 0.0


def _into(
    strip: Strip, channels: int, aim: Target, azimuth: Curve, elevation: Curve, shares: Shares
) -> Gains:
    """How a strip enters a bus or bed.

    Mono is panned to where it stands, wider sources are converted.
    """
    source = format_of(strip, channels)
    panned = is_panned(source)
    if panned and (azimuth.moves or elevation.moves):

        def gains(times_s: NDArray[np.float64]) -> NDArray[np.float64]:
            return mapping_gains(source, aim, azimuth.at(times_s), elevation.at(times_s))

        return Gains(gains, (azimuth, elevation), (source.name, aim.name, azimuth, elevation))
    stands = float(azimuth.values[0]), float(elevation.values[0])
    return _fixed_gains(source, aim, *(stands if panned else (0.0, 0.0)), shares)


@lru_cache(4096)
def _fixed_gains(
    source: Target, aim: Target, azimuth_deg: float, elevation_deg: float, shares: Shares
) -> Gains:
    angles = np.array([azimuth_deg]), np.array([elevation_deg])
    return Gains.fixed(mapping_gains(source, aim, *angles, shares)[0])


def _feed(strip: Strip, channels: int, lanes: Lanes, shares: Shares) -> Feed | None:
    placement = strip.placement
    if placement.mode == "none":
        return None
    require_placeable(strip, channels)
    own = format_of(strip, channels)

    curve = _Curves(strip.id, lanes)
    if placement.mode == "scene":
        order = own.order if own.order is not None else order_of(channels)
        yaw, pitch, roll = (
            curve.of_placement(placement, name)
            for name in ("azimuth_deg", "elevation_deg", "roll_deg")
        )
        return SceneFeed(strip.id, order, yaw, pitch, roll, placement.decoder, placement.weighting)
    if placement.mode == "bed":
        bed = target_named(placement.layout)
        assert bed.layout
        return BedFeed(
            strip.id,
            bed.layout,
            _into(
                strip,
                channels,
                bed,
                curve.of_placement(placement, "azimuth_deg"),
                curve.of_placement(placement, "elevation_deg"),
                shares,
            ),
        )
    assert own.layout
    return ObjectFeed(strip.id, object_position(strip, own.layout, lanes))
