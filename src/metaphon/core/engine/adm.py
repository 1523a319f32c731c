"""A mix as a file with an audio definition: which sounds it holds, and where they are."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from metaphon.core.adm.model import Definition, Element, Loudspeaker, Path
from metaphon.core.document.breakpoints import CURVES
from metaphon.core.document.handover import ADM, ADM_TITLE
from metaphon.core.document.lanes import values_at
from metaphon.core.document.mix import Automation, Mix, Placement
from metaphon.core.document.positions import place_lanes, positions, used_lanes
from metaphon.core.document.targets import Target
from metaphon.core.dsp.block import Block
from metaphon.core.engine.automation import Gains, Mixer
from metaphon.core.engine.plan import BedFeed, ObjectFeed, Plan, SceneFeed
from metaphon.core.engine.renderers import Signals
from metaphon.core.spatial.ambisonics import channels_of
from metaphon.core.spatial.layouts import layout_named

_SMOOTH_STEPS = 100  # straight ones in the place of one that is eased
Array = NDArray[np.float64]


@dataclass(frozen=True)
class Programme:
    """What goes into the file, in the order of its channels, and what is said of it."""

    beds: tuple[tuple[str, tuple[BedFeed, ...]], ...]
    objects: tuple[ObjectFeed, ...]
    scenes: tuple[tuple[int, tuple[SceneFeed, ...]], ...]
    definition: Definition

    @property
    def channels(self) -> int:
        """How many channels the file has."""
        return sum(len(element.channels) for element in self.definition.elements)

    @property
    def target(self) -> Target:
        """What the file is among targets."""
        return Target(ADM, ADM_TITLE, self.channels, names=self._names)

    @property
    def _names(self) -> tuple[str, ...]:
        """What each channel of the file is called."""
        return tuple(
            f"{element.name} {element.loudspeakers[n].label}"
            if element.kind == "bed"
            else element.name
            for element in self.definition.elements
            for n in range(len(element.channels))
        )


def programme_of(
    mix: Mix, plan: Plan, span_s: tuple[float, float], lead_s: float = 0.0
) -> Programme:
    """What a file with an audio definition holds of a mix.

    Beds of one layout are one bed, scenes of one order are one scene; every object keeps its own
    way, each of its channels with a channel of the file.

    Parameters
    ----------
    mix, plan
        The mix, and the same compiled.
    span_s
        From and up to, in seconds of the mix.
    lead_s
        Silence in front.
    """
    beds: dict[str, list[BedFeed]] = {}
    scenes: dict[int, list[SceneFeed]] = {}
    objects: list[ObjectFeed] = []
    for feed in plan.feeds:
        if isinstance(feed, BedFeed):
            beds.setdefault(feed.layout.name, []).append(feed)
        elif isinstance(feed, SceneFeed):
            scenes.setdefault(feed.order, []).append(feed)
        else:
            objects.append(feed)
    elements: list[Element] = []
    for name in beds:
        layout = layout_named(name)
        speakers = tuple(
            Loudspeaker(label, *angles)
            for label, angles in zip(layout.labels, layout.angles_deg, strict=True)
        )
        elements.append(Element(f"Bed {layout.everyday}", "bed", (), speakers))
    names = {strip.id: strip.name for strip in mix.strips}
    for feed in objects:
        elements.append(_object(mix, feed, names[feed.strip], span_s, lead_s))
    elements += [Element(f"Scene of order {order}", "scene", (), order=order) for order in scenes]
    definition = Definition(mix.title, _numbered(elements), lead_s + span_s[1] - span_s[0])
    return Programme(
        tuple((name, tuple(own)) for name, own in beds.items()),
        tuple(objects),
        tuple((order, tuple(own)) for order, own in scenes.items()),
        definition,
    )


def _numbered(elements: Sequence[Element]) -> tuple[Element, ...]:
    """The elements, each with its channels one after the other."""
    found, first = [], 0
    for element in elements:
        count = {
            "bed": len(element.loudspeakers),
            "object": len(element.paths),
            "scene": channels_of(element.order),
        }[element.kind]
        found.append(replace(element, channels=tuple(range(first, first + count))))
        first += count
    return tuple(found)


def _object(
    mix: Mix, feed: ObjectFeed, name: str, span_s: tuple[float, float], lead_s: float
) -> Element:
    place = feed.where.placement
    strip = mix.find_strip(feed.strip)
    assert strip
    lanes = used_lanes(mix, strip)
    others = {n: lane for n, lane in place_lanes(mix, feed.strip).items() if n in _OTHERS}
    times = _times([*lanes.values(), *others.values()], span_s, 1.0 / mix.sample_rate_hz)
    values = positions(place, lanes, times)
    pair, divergence, diffuseness = (_of(place, others, n, times) for n in _OTHERS)
    if place.coordinates == "sphere" and place.on_sphere:
        values[2] = 1.0
    paths = []
    for aside_deg, up_deg in feed.where.offsets_deg:
        own = values.copy()
        if place.coordinates == "sphere":
            own[0] += aside_deg * pair / 60.0
            own[1] = np.clip(own[1] + up_deg, -90.0, 90.0)
        shifted = times - span_s[0] + lead_s
        paths.append(Path(place.coordinates == "cube", shifted, own, divergence, diffuseness))
    return Element(
        name,
        "object",
        (),
        paths=tuple(paths),
        importance=place.importance,
        snap=place.snap,
        divergence_range_deg=place.divergence_range_deg,
        excluded=place.excluded,
    )


_OTHERS = ("pair_deg", "divergence", "diffuseness")


def _of(place: Placement, lanes: dict[str, Automation], name: str, times_s: Array) -> Array:
    if name in lanes:
        return values_at(lanes[name].points, times_s)
    return np.full(len(times_s), float(getattr(place, name)))


def _times(lanes: Sequence[Automation], span_s: tuple[float, float], sample_s: float) -> Array:
    """Times between which all lanes run straight, within a span and at its beginning."""
    found = [np.array([span_s[0]])]
    for lane in lanes:
        times, kinds = lane.points.times_s, lane.points.curves
        found.append(times)
        held = kinds[:-1] == CURVES.index("hold")
        found.append(np.maximum(times[1:][held] - sample_s, times[:-1][held]))
        for n in np.flatnonzero(kinds[:-1] == CURVES.index("smooth")):
            found.append(np.linspace(times[n], times[n + 1], _SMOOTH_STEPS + 1))
    every = np.unique(np.concatenate(found))
    return every[(every >= span_s[0]) & (every < span_s[1])]


class ProgrammeRenderer:
    """The sounds of a file with an audio definition, channel by channel."""

    def __init__(self, programme: Programme, rate_hz: int) -> None:
        self._channels = programme.channels
        self._summed = [
            (
                layout_named(name).channels,
                [(feed.strip, Mixer(feed.gains, rate_hz)) for feed in own],
            )
            for name, own in programme.beds
        ]
        self._objects = [(feed.strip, len(feed.where.offsets_deg)) for feed in programme.objects]
        self._scenes = [
            (
                channels_of(order),
                [
                    (feed.strip, Mixer(Gains(feed.rotation_at, feed.curves, feed), rate_hz))
                    for feed in own
                ],
            )
            for order, own in programme.scenes
        ]

    def process(self, signals: Signals, first: int, frames: int) -> Block:
        """Play `frames` frames from frame `first` of the mix; gives (channels, frames)."""
        out = np.zeros((self._channels, frames), dtype=np.float32)
        at = 0
        for channels, mixers in self._summed:
            self._add(out[at : at + channels], mixers, signals, first)
            at += channels
        for strip, channels in self._objects:
            if strip in signals:
                out[at : at + channels] = signals[strip]
            at += channels
        for channels, mixers in self._scenes:
            self._add(out[at : at + channels], mixers, signals, first)
            at += channels
        return out

    def _add(
        self, into: Block, mixers: list[tuple[str, Mixer]], signals: Signals, first: int
    ) -> None:
        for strip, mixer in mixers:
            if strip in signals:
                mixer.add(into, signals[strip], first)
