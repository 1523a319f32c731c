"""A mix as a file with an audio definition: which sounds it holds, and where they are."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from metaphon.core.adm.model import Definition, Element, Loudspeaker, Path, Programme
from metaphon.core.document.breakpoints import CURVES
from metaphon.core.document.handover import ADM, ADM_TITLE
from metaphon.core.document.lanes import values_at
from metaphon.core.document.mix import Automation, Mix, Placement
from metaphon.core.document.parting import Parted
from metaphon.core.document.personal import as_alternative
from metaphon.core.document.positions import place_lanes, positions, used_lanes
from metaphon.core.document.targets import Target
from metaphon.core.dsp.block import Block
from metaphon.core.engine.automation import Gains, Mixer
from metaphon.core.engine.plan import BedFeed, Feed, ObjectFeed, Plan, SceneFeed
from metaphon.core.engine.renderers import Signals
from metaphon.core.spatial.ambisonics import channels_of
from metaphon.core.spatial.room_cube import OUT_IN_ROOM_DEG

_FARTHEST_DEG, _FARTHEST_SHARE = 6.0, 0.05  # from one block to the next
_SMOOTH_STEPS = 100  # straight ones in the place of one that is eased
Array = NDArray[np.float64]


@dataclass(frozen=True)
class Contents:
    """What goes into the file, the feeds of each element, and what is said of it."""

    parts: tuple[tuple[Feed, ...], ...]
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

    def heard_in(self, programme: Programme) -> dict[str, float]:
        """The strips that are heard in a programme, and the gain of each in dB."""
        return {
            feed.strip: programme.gains_db.get(number, 0.0)
            for number, part in enumerate(self.parts)
            if number not in programme.absent
            for feed in part
        }


def contents_of(
    mix: Mix, apart: Parted, plan: Plan, span_s: tuple[float, float], lead_s: float
) -> Contents:
    """What a file with an audio definition holds of a mix.

    Beds of one layout are one bed, scenes of one order are one scene; every object keeps its own
    way, each of its channels with a channel of the file. What varies is kept apart.

    Parameters
    ----------
    mix
        As it is.
    apart, plan
        The mix in which what varies is apart, and the same compiled.
    span_s
        From and up to, in seconds of the mix.
    lead_s
        Silence in front.
    """
    kept: dict[tuple[str, int, str], list[Feed]] = {}
    for feed in plan.feeds:
        owner = apart.owners.get(feed.strip.partition("/")[0], "")
        kept.setdefault((owner, *_place(feed)), []).append(feed)
    varied = {one.strip: one for one in mix.alternatives.varied}
    order = ["", *varied]
    names = {strip.id: strip.name for strip in mix.strips}
    found, elements = [], []
    for owner, kind, word in sorted(kept, key=lambda key: (order.index(key[0]), key[1])):
        found.append((owner, tuple(kept[owner, kind, word])))
        element = _element(apart.mix, kept[owner, kind, word][0], span_s, lead_s)
        if owner:
            own = "" if element.name == names[owner] else f", {element.name}"
            element = replace(
                element,
                name=f"{names[owner]}{own}",
                content=names[owner],
                varied=varied[owner],
            )
        elements.append(element)
    definition = Definition(
        _programmes(mix, [owner for owner, _ in found]),
        _numbered(elements),
        lead_s + span_s[1] - span_s[0],
    )
    return Contents(tuple(part for _, part in found), definition)


def _place(feed: Feed) -> tuple[int, str]:
    """What a feed shares an element with, and where in the file that stands."""
    if isinstance(feed, BedFeed):
        return 0, feed.layout.name
    return (2, str(feed.order)) if isinstance(feed, SceneFeed) else (1, feed.strip)


def _element(mix: Mix, feed: Feed, span_s: tuple[float, float], lead_s: float) -> Element:
    if isinstance(feed, BedFeed):
        layout = feed.layout
        speakers = tuple(
            Loudspeaker(label, *angles)
            for label, angles in zip(layout.labels, layout.angles_deg, strict=True)
        )
        return Element(f"Bed {layout.everyday}", "bed", (), speakers)
    if isinstance(feed, SceneFeed):
        return Element(f"Scene of order {feed.order}", "scene", (), order=feed.order)
    strip = mix.find_strip(feed.strip)
    assert strip
    return _object(mix, feed, strip.name, span_s, lead_s)


def _programmes(mix: Mix, owners: Sequence[str]) -> tuple[Programme, ...]:
    """The mix itself and its alternatives, of elements that belong to these."""
    found = []
    for one in (None, *mix.alternatives.programmes):
        sounding = as_alternative(mix, one.id if one else "")
        heard = {s.id for s in sounding.strips if not s.muted and not s.resting}
        absent = {n for n, owner in enumerate(owners) if owner and owner not in heard}
        gains = {
            n: gain_db
            for n, owner in enumerate(owners)
            if one and owner and n not in absent and (gain_db := one.of(owner).gain_db)
        }
        name, language = (one.name, one.language) if one else (mix.title, mix.alternatives.language)
        found.append(Programme(name, language, absent=frozenset(absent), gains_db=gains))
    return tuple(found)


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
    moving = [*lanes.values(), *others.values()]
    times = _times(moving, span_s, 1.0 / mix.sample_rate_hz)
    in_degrees = place.coordinates == "sphere"
    where = positions(place, lanes, times)
    times = _close(times, where, others, in_degrees, 1.0 / mix.sample_rate_hz)
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
        else:
            own[0] = np.clip(own[0] - aside_deg * pair / 60.0 / OUT_IN_ROOM_DEG, -1.0, 1.0)
            if place.on_sphere:
                own[:3] /= np.maximum(np.abs(own[:3]).max(axis=0), 1e-9)
        shifted = times - span_s[0] + lead_s
        paths.append(
            Path(
                place.coordinates == "cube",
                shifted,
                own,
                divergence,
                diffuseness,
                np.ones(len(times)),
            )
        )
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
        found.append(np.array([span_s[1]]))
    every = np.unique(np.concatenate(found))
    return every[(every >= span_s[0]) & (every <= span_s[1])]


def _close(
    times: Array,
    values: Array,
    others: dict[str, Automation],
    in_degrees: bool,
    sample_s: float,
) -> Array:
    """More times, where from one to the next it goes too far.

    Whoever plays the file has gains run straight from one block to the next (ITU-R BS.2127-1): over
    six degrees between loudspeakers as close as those of 9+10+3 that is off by less than 0.1 dB.
    """
    whole = np.array(
        [
            _FARTHEST_DEG,
            _FARTHEST_DEG,
            _FARTHEST_SHARE,
            _FARTHEST_DEG,
            _FARTHEST_DEG,
            _FARTHEST_SHARE,
        ]
    )
    finest = whole if in_degrees else np.full(6, _FARTHEST_SHARE)
    far = np.max(np.abs(np.diff(values, axis=1)) / finest[:, None], axis=0, initial=0.0)
    for name, lane in others.items():
        step = np.abs(np.diff(values_at(lane.points, times)))
        far = np.maximum(far, step / (_FARTHEST_DEG if name == "pair_deg" else _FARTHEST_SHARE))
    steps = np.diff(times) < 1.5 * sample_s
    counts = np.where(steps, 1, np.ceil(far)).astype(int)
    more = [
        np.round(np.linspace(times[n], times[n + 1], counts[n] + 1)[1:-1] / sample_s) * sample_s
        for n in np.flatnonzero(counts > 1)
    ]
    return np.unique(np.concatenate([times, *more]))


class ContentsRenderer:
    """The sounds of a file with an audio definition, channel by channel."""

    def __init__(self, contents: Contents, rate_hz: int) -> None:
        self._channels = contents.channels
        self._parts = [
            (
                element.channels[0],
                len(element.channels),
                [(f.strip, _mixer(f, rate_hz)) for f in own],
            )
            for element, own in zip(contents.definition.elements, contents.parts, strict=True)
        ]

    def process(self, signals: Signals, first: int, frames: int) -> Block:
        """Play `frames` frames from frame `first` of the mix; gives (channels, frames)."""
        out = np.zeros((self._channels, frames), dtype=np.float32)
        for at, channels, own in self._parts:
            into = out[at : at + channels]
            for strip, mixer in own:
                if strip not in signals:
                    continue
                if mixer:
                    mixer.add(into, signals[strip], first)
                else:
                    into[:] = signals[strip]
        return out


def _mixer(feed: Feed, rate_hz: int) -> Mixer | None:
    """How a feed enters its element; an object's channels are those of the file."""
    if isinstance(feed, BedFeed):
        return Mixer(feed.gains, rate_hz)
    if isinstance(feed, SceneFeed):
        return Mixer(Gains(feed.rotation_at, feed.curves, feed), rate_hz)
    return None
