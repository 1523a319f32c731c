"""A mix with fewer objects: those that lie together are told as one, which goes where they are.

Half a second after half a second the objects are put into so many groups that the energy that is
out of place is least: k-means on directions (Lloyd 1982), weighted by level and importance, begun
where the half second before ended, so that groups stay together. The groups are buses, objects are
sent to them, so the result is a mix like any other.
"""

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from metaphon.core.document.breakpoints import CURVES, Breakpoints
from metaphon.core.document.mix import PROGRAMME, Automation, Bus, Mix, Placement, Send, Track
from metaphon.core.engine.clips import ClipRun
from metaphon.core.engine.object_panning import ObjectPosition, layout_gains
from metaphon.core.engine.plan import ObjectFeed, Plan, StripPlan, compile
from metaphon.core.errors import InputError
from metaphon.core.spatial.directions import angles_of, unit_vectors
from metaphon.core.spatial.layouts import LAYOUTS

SEGMENT_S = 0.5
_STEP_DB = 3.0  # that one point of importance is worth
_FLOOR_DB = -90.0  # below the loudest, where an object counts as silent
_ROUNDS = 12
_BETTER = 0.7  # of the energy out of place, for groups to be made afresh
_HELD_TO = "4+7+0"

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Displaced:
    """An object in fewer: how far it is from its place, and what is then otherwise of it.

    `mean_deg` is weighted by its energy, `most_deg` over all of its sound; `off_db` is the power of
    what differs on loudspeakers against its own.
    """

    strip: str
    mean_deg: float
    most_deg: float
    off_db: float | None


@dataclass(frozen=True)
class Fewer:
    """The mix with so many objects, how many it had, and what became of each that was grouped."""

    mix: Mix
    before: int
    objects: list[Displaced]


@lru_cache(maxsize=8)
def fewer_objects(mix: Mix, most: int) -> Fewer:
    """Group the objects of a mix so that there are no more than so many channels of objects.

    What is wide, diffuse, kept out of zones, at a distance that is heard, or may vary stays as it
    is, and counts.

    Parameters
    ----------
    mix
        The mix.
    most
        Channels of objects, 1 to 128.

    Raises
    ------
    InputError
        Where what cannot be grouped is more than that.
    """
    plan = compile(mix)
    feeds = [feed for feed in plan.feeds if isinstance(feed, ObjectFeed)]
    before = sum(len(feed.where.offsets_deg) for feed in feeds)
    by_id = {strip.id: strip for strip in plan.strips}
    varied = {one.strip for one in mix.alternatives.varied}
    free = [feed for feed in feeds if _may_be_grouped(mix, feed, by_id[feed.strip], varied)]
    count = most - (before - len(free))
    if count >= len(free):
        return Fewer(mix, before, [])
    if count < 1:
        raise InputError(
            f"{before - len(free)} channels of objects cannot be grouped (wide, diffuse, at a "
            f"distance that is heard, or varied); allow {before - len(free) + 1} at least."
        )
    times = np.arange(SEGMENT_S / 2.0, plan.duration_s + SEGMENT_S, SEGMENT_S)
    energy = np.array([_energies(plan, by_id[feed.strip], times) for feed in free])
    places = np.array([feed.where.on_sphere_at(times) for feed in free])  # (objects, 6, times)
    vectors = unit_vectors(places[:, 0], places[:, 1]) * np.minimum(places[:, 2], 1.0)[..., None]
    rank = [mix_strip.placement.importance for f in free if (mix_strip := mix.find_strip(f.strip))]
    weights = energy * 10.0 ** ((np.array(rank)[:, None] - 10.0) * _STEP_DB / 10.0)
    weights = np.maximum(weights, 10.0 ** (_FLOOR_DB / 10.0) * max(weights.max(), 1e-20))
    groups, middles = _grouped(vectors, weights, count)
    extents = _extents(places[:, 3], weights, groups, count)
    made = _with_groups(mix, [feed.strip for feed in free], groups, middles, extents, times)
    return Fewer(made, before, _displaced(made, free, groups, vectors, middles, energy, times))


def _may_be_grouped(mix: Mix, feed: ObjectFeed, strip: StripPlan, varied: set[str]) -> bool:
    track = mix.find_strip(feed.strip)
    where = feed.where
    plain = not (where.placement.snap or where.placement.excluded or where.is_diffuse)
    narrow = len(where.offsets_deg) == 1 and not np.any(where.divergence.values > 0.0)
    near = strip.distance is None and not where.placement.reflections
    return isinstance(track, Track) and plain and narrow and near and track.id not in varied


def _energies(plan: Plan, strip: StripPlan, times: Array) -> Array:
    """The energy of a track in each segment, by its recordings and its fader."""
    step = round(SEGMENT_S * plan.rate_hz)
    found = np.zeros(len(times))
    for clip in strip.clips:
        run = ClipRun(clip)
        for n in range(len(times)):
            if run.covers(n * step, step):
                found[n] += float(np.mean(run.read(n * step, step).astype(np.float64) ** 2))
        run.close()
    return np.asarray(found * 10.0 ** (strip.fader_db.at(times) / 10.0))


def _extents(own: Array, weights: Array, groups: NDArray[np.int64], count: int) -> Array:
    """How wide each group is, (groups, segments): the mean of its objects."""
    inside = groups[None] == np.arange(count)[:, None, None]  # (groups, objects, segments)
    heavy = np.where(inside, weights, 0.0)
    sums = np.maximum(heavy.sum(axis=1), 1e-30)
    result: Array = np.sum(heavy * own, axis=1) / sums
    return result


def _grouped(vectors: Array, weights: Array, count: int) -> tuple[NDArray[np.int64], Array]:
    """The group of each object, (objects, segments); their middles, (groups, segments, 3)."""
    objects, segments = weights.shape
    groups = np.zeros((objects, segments), dtype=np.int64)
    middles = np.zeros((count, segments, 3))
    held: Array | None = None
    for s in range(segments):
        points, heavy = vectors[:, s], weights[:, s]
        fresh = _settled(points, heavy, _apart(points, heavy, count))
        found = fresh
        if held is not None:
            going_on = _settled(points, heavy, held)
            if going_on[2] * _BETTER <= fresh[2]:
                found = going_on
        groups[:, s], middles[:, s], _ = found
        held = found[1]
    return groups, middles


def _apart(points: Array, heavy: Array, count: int) -> Array:
    """Places to begin from: the heaviest object, then each time what is heaviest and farthest."""
    chosen = [int(np.argmax(heavy))]
    nearest = np.sum((points - points[chosen[0]]) ** 2, axis=1)
    while len(chosen) < count:
        nearest[chosen] = -1.0
        chosen.append(int(np.argmax(np.where(nearest < 0.0, -1.0, (nearest + 1e-9) * heavy))))
        nearest = np.minimum(nearest, np.sum((points - points[chosen[-1]]) ** 2, axis=1))
    return points[chosen].copy()


def _settled(points: Array, heavy: Array, middles: Array) -> tuple[NDArray[np.int64], Array, float]:
    """Groups that have come to rest: of each object, their middles, the energy out of place."""
    middles = middles.copy()
    for _ in range(_ROUNDS):
        away = np.sum((points[:, None] - middles[None]) ** 2, axis=2)
        groups = np.argmin(away, axis=1)
        lost = heavy * away[np.arange(len(points)), groups]
        for k in range(len(middles)):
            own = groups == k
            if own.any():
                middles[k] = np.average(points[own], axis=0, weights=heavy[own])
            else:  # an empty one goes to what is farthest off
                worst = int(np.argmax(lost))
                middles[k], lost[worst] = points[worst], 0.0
    away = np.sum((points[:, None] - middles[None]) ** 2, axis=2)
    groups = np.argmin(away, axis=1)
    return groups, middles, float(np.sum(heavy * away[np.arange(len(points)), groups]))


def _with_groups(
    mix: Mix,
    strips: list[str],
    groups: NDArray[np.int64],
    middles: Array,
    extents: Array,
    times: Array,
) -> Mix:
    """The mix whose objects are sent to buses, which are objects in their place."""
    buses, lanes = [], list(mix.automation)
    azimuths, elevations = angles_of(middles)
    distances = np.linalg.norm(middles, axis=2)
    for k in range(len(middles)):
        place = Placement(mode="object")
        ways = {
            "azimuth_deg": azimuths[k],
            "elevation_deg": elevations[k],
            "distance": distances[k],
            "extent_deg": extents[k],
        }
        for name, values in ways.items():
            if np.ptp(values) > 1e-6:
                lane = Automation(
                    target=f"{_name(k)}/placement/{name}", points=Breakpoints(times, values)
                )
                lanes.append(lane)
        first = {name: float(values[0]) for name, values in ways.items()}
        buses.append(
            Bus(
                id=_name(k),
                name=f"Group {k + 1}",
                layout="0+1+0",
                placement=place.model_copy(update=first),
            )
        )
    sends: dict[str, tuple[Send, ...]] = {}
    for own, strip in zip(groups, strips, strict=True):
        used = np.unique(own)
        sends[strip] = tuple(Send(bus=_name(k), level_db=0.0) for k in used)
        for k in used if len(used) > 1 else ():
            lanes.append(_switching(f"{strip}/sends/{_name(k)}/level_db", own == k))

    def changed(one: Track | Bus) -> Track | Bus:
        if one.id not in sends:
            return one
        update = {"output": None if one.output == PROGRAMME else one.output}
        return one.model_copy(update={**update, "sends": (*one.sends, *sends[one.id])})

    made = mix.with_strips(changed)
    return made.model_copy(update={"buses": (*made.buses, *buses), "automation": tuple(lanes)})


def _name(group: int) -> str:
    return f"object_group_{group + 1}"


def _switching(target: str, on: NDArray[np.bool_]) -> Automation:
    """A level that is held, all or nothing, and steps where it changes."""
    changes = [0, *(np.flatnonzero(np.diff(on.astype(int))) + 1)]
    values = np.where(on[changes], 0.0, -120.0)
    held = np.full(len(changes), CURVES.index("hold"))
    return Automation(
        target=target, points=Breakpoints(np.array(changes) * SEGMENT_S, values, held)
    )


def _displaced(
    made: Mix,
    free: list[ObjectFeed],
    groups: NDArray[np.int64],
    vectors: Array,
    middles: Array,
    energy: Array,
    times: Array,
) -> list[Displaced]:
    layout = LAYOUTS[_HELD_TO]
    shares = made.fold_down.shares
    feeds = {feed.strip: feed for feed in compile(made).feeds if isinstance(feed, ObjectFeed)}

    def gains(where: ObjectPosition) -> Array:
        return layout_gains(where, layout, times, shares)[:, :, 0]  # (times, loudspeakers)

    of_groups = {k: gains(feeds[_name(k)].where) for k in range(len(middles)) if _name(k) in feeds}
    found = []
    for n, feed in enumerate(free):
        own, sound = gains(feed.where), energy[n]
        if not sound.any():
            continue
        there = np.array(
            [of_groups[k][s] if k in of_groups else own[s] for s, k in enumerate(groups[n])]
        )
        one, other = vectors[n], middles[groups[n], np.arange(len(times))]
        angle = np.degrees(np.arccos(np.clip(_cosine(one, other), -1.0, 1.0)))
        heard = sound > 10.0 ** (_FLOOR_DB / 10.0) * sound.max()
        off = float(np.sum(sound * np.sum((own - there) ** 2, axis=1)))
        whole = float(np.sum(sound * np.sum(own**2, axis=1)))
        off_db = None if off <= 0.0 or whole <= 0.0 else round(float(10 * np.log10(off / whole)), 1)
        found.append(
            Displaced(
                feed.strip,
                round(float(np.average(angle, weights=sound)), 1),
                round(float(angle[heard].max()), 1),
                off_db,
            )
        )
    return sorted(found, key=lambda one: -one.mean_deg)


def _cosine(one: Array, other: Array) -> Array:
    lengths = np.linalg.norm(one, axis=1) * np.linalg.norm(other, axis=1)
    result: Array = np.sum(one * other, axis=1) / np.maximum(lengths, 1e-9)
    return result
