"""The parts of a mix that add up to it: each a mix of its own, in which the rest is silent.

What a part sounds like is what the whole mix makes of its tracks alone, so wherever the way to the
programme is linear the parts add up to the mix.
"""

from collections.abc import Callable, Collection
from dataclasses import dataclass
from typing import Any

from metaphon.core.document.channel_mapping import format_of
from metaphon.core.document.graph import open_routes
from metaphon.core.document.handover import Rooms, StemKind
from metaphon.core.document.mix import PROGRAMME, Bus, LfeSend, Mix, Placement, Strip, Track
from metaphon.core.document.parting import again, lanes_again
from metaphon.core.document.targets import Target
from metaphon.core.files.audio import probe

_MODES = {
    "bed": ("beds", "Beds"),
    "object": ("objects", "Objects"),
    "scene": ("scenes", "Scenes"),
    "none": ("unplaced", "Not placed"),
}
_AFTER = "+after"  # what follows the id of a bus that a return needs a second time


@dataclass(frozen=True)
class Stem:
    """One part: a word for file names, what people call it, and the mix that sounds like it.

    `members` are the tracks that it stands for; a return stands for none. `width` is that of its
    one source where it is told as it leaves its fader, not placed.
    """

    word: str
    title: str
    mix: Mix
    members: frozenset[str] = frozenset()
    width: Target | None = None


def stems_of(mix: Mix, kind: StemKind, rooms: Rooms = "shared") -> list[Stem]:
    """The parts of a mix that are heard in it.

    Parameters
    ----------
    mix
        The whole of it.
    kind
        A part for each track; for each bus that enters the programme, with all that goes through
        it; for what is placed alike; or for each group.
    rooms
        `shared`: every part has its share of what it sends to. `apart`: parts are dry, and each bus
        that something is sent to is a part of its own.
    """
    ways = open_routes(mix)
    sounding = [track for track in mix.tracks if track.clips and track.id in ways.sends]
    parts: dict[tuple[str, str], set[str]] = {}
    for track in sounding:
        parts.setdefault(_PART[kind](mix, track), set()).add(track.id)
    dry = _without_sends(mix) if rooms == "apart" else mix
    found = [Stem(*part, only(dry, own), frozenset(own)) for part, own in parts.items()]
    if rooms == "apart":
        aims = {send.bus for own in ways.sends.values() for send in own}
        found += [_return_stem(mix, bus) for bus in mix.buses if bus.id in aims]
    return [stem for stem in found if _is_heard(stem.mix)]


def sources_of(mix: Mix, kind: StemKind = "tracks") -> list[Stem]:
    """Parts as they leave their faders, as wide as they are: neither placed nor sent anywhere.

    Parameters
    ----------
    mix
        The whole of it.
    kind
        `tracks`: each as wide as its recording. `buses`: each that has an open way to the mix.
        `groups`: the tracks of each, as wide as the widest of them.
    """
    ways = open_routes(mix)
    sounding = [track for track in mix.tracks if track.clips and track.id in ways.sends]
    parts: dict[tuple[str, str], list[Strip]] = {}
    if kind == "buses":
        fed = {bus for track in sounding for bus in _buses_after(mix, track)}
        parts = {(f"bus_{bus.id}", bus.name): [bus] for bus in mix.buses if bus.id in fed}
    else:
        for track in sounding:
            parts.setdefault(_PART[kind](mix, track), []).append(track)
    found = []
    for (word, title), strips in parts.items():
        width = max((width_of(strip) for strip in strips), key=lambda one: one.channels)
        ids = frozenset(strip.id for strip in strips)
        found.append(Stem(word, title, together(mix, ids, width, fader=True), ids, width))
    return found


def _buses_after(mix: Mix, track: Track) -> list[str]:
    """The buses that a track goes through by its main feed."""
    found: list[str] = []
    strip: Strip | None = track
    while strip and strip.output not in (PROGRAMME, None):
        found.append(str(strip.output))
        strip = mix.find_strip(found[-1])
    return found


def width_of(strip: Strip) -> Target:
    """The format of a track's recording or of a bus."""
    return format_of(
        strip,
        strip.channels(probe(strip.clips[0].file).channels)
        if isinstance(strip, Track) and strip.clips
        else 0,
    )


def alone(mix: Mix, strip_id: str, width: Target, fader: bool = False) -> Mix:
    """The mix with one strip as its only result, as `together` makes it."""
    return together(mix, frozenset({strip_id}), width, fader)


def together(mix: Mix, strip_ids: Collection[str], width: Target, fader: bool = False) -> Mix:
    """The mix with these strips as its only result, as they are before their faders, or after them.

    Their chains move as they do in the mix.

    Parameters
    ----------
    mix
        Stays as it is.
    strip_ids
        Tracks or buses of it.
    width
        The format of the result; strips of that format reach it unchanged.
    fader
        Whether its fader is heard.
    """
    place = (
        Placement(mode="scene")
        if width.layout is None
        else Placement(mode="bed", layout=width.name)
    )

    quiet = {"soloed": False, "lfe": LfeSend()}

    def one(strip: Any) -> Any:
        if strip.id in strip_ids:
            own = {
                "output": PROGRAMME,
                "sends": (),
                "muted": False,
                "resting": False,
                "placement": place,
            }
            level = {} if fader else {"gain_db": 0.0}
            return strip.model_copy(update={**own, **level, **quiet})
        cut = {"output": None} if strip.output == PROGRAMME else {}
        return strip.model_copy(update={**quiet, **cut})

    kept = ("chain/", "gain_db") if fader else ("chain/",)
    lanes = tuple(
        lane
        for lane in mix.automation
        if (parts := lane.target.partition("/"))[0] not in strip_ids or parts[2].startswith(kept)
    )
    return mix.with_strips(one).model_copy(update={"automation": lanes})


def _of_track(mix: Mix, track: Track) -> tuple[str, str]:
    return track.id, track.name


def _of_bus(mix: Mix, track: Track) -> tuple[str, str]:
    last = _last(mix, track)
    return (f"bus_{last.id}", last.name) if isinstance(last, Bus) else ("direct", "On no bus")


def _of_placement(mix: Mix, track: Track) -> tuple[str, str]:
    return _MODES[_last(mix, track).placement.mode]


def _of_group(mix: Mix, track: Track) -> tuple[str, str]:
    names = {group.id: group.name for group in mix.groups}
    if track.group is None:
        return "ungrouped", "In no group"
    return f"group_{track.group}", names[track.group]


_PART: dict[StemKind, Callable[[Mix, Track], tuple[str, str]]] = {
    "tracks": _of_track,
    "buses": _of_bus,
    "placements": _of_placement,
    "groups": _of_group,
}


def _last(mix: Mix, strip: Strip) -> Strip:
    """The strip by which this one enters the programme, following outputs."""
    while strip.output not in (PROGRAMME, None):
        found = mix.find_strip(str(strip.output))
        assert found
        strip = found
    return strip


def soloed(mix: Mix, strip_id: str) -> Mix:
    """The mix in which one strip alone is soloed: what it puts into it, with what it sends."""
    return mix.with_strips(
        lambda strip: strip.model_copy(update={"soloed": strip.id == strip_id, "solo_safe": False})
    )


def only(mix: Mix, members: Collection[str]) -> Mix:
    """The mix in which only some tracks have recordings."""
    tracks = tuple(
        one if one.id in members else one.model_copy(update={"clips": ()}) for one in mix.tracks
    )
    return mix.model_copy(update={"tracks": tracks})


def _without_sends(mix: Mix) -> Mix:
    lanes = (lane for lane in mix.automation if lane.target.split("/")[1] != "sends")
    dry = mix.with_strips(lambda strip: strip.model_copy(update={"sends": ()}))
    return dry.model_copy(update={"automation": tuple(lanes)})


def _return_stem(mix: Mix, bus: Bus) -> Stem:
    """What comes to the programme by a send to this bus first.

    Buses that lead to it and also follow it are there twice: before, where they feed it only, and
    after.
    """

    def before(strip: Any) -> Any:
        sends = tuple(
            send.model_copy(update={"bus": bus.id + _AFTER})
            for send in strip.sends
            if send.bus == bus.id
        )
        output = None if strip.output == PROGRAMME else strip.output
        return strip.model_copy(update={"sends": sends, "output": output, "lfe": LfeSend()})

    lanes = lanes_again(mix, (one.id for one in mix.buses), _AFTER)
    for lane in mix.automation:
        own, _, path = lane.target.partition("/")
        kept = not path.startswith("sends/") or path.startswith(f"sends/{bus.id}/")
        renamed = path.replace(f"sends/{bus.id}/", f"sends/{bus.id}{_AFTER}/", 1)
        if kept and not path.startswith("lfe/"):
            lanes.append(lane.model_copy(update={"target": f"{own}/{renamed}"}))
    doubled = mix.with_strips(before)
    return Stem(
        f"return_{bus.id}",
        f"{bus.name}, the return",
        doubled.model_copy(
            update={
                "buses": (*doubled.buses, *(again(one, _AFTER) for one in mix.buses)),
                "automation": tuple(lanes),
            }
        ),
    )


def as_in_mix(strip_id: str) -> str:
    """The id that a strip of a stem has in the mix."""
    return strip_id.removesuffix(_AFTER)


def _is_heard(mix: Mix) -> bool:
    """Whether any recording of a mix has an open way to the programme."""
    ways = open_routes(mix)
    by_id = {strip.id: strip for strip in mix.strips}
    waiting = [track.id for track in mix.tracks if track.clips and track.id in ways.sends]
    seen: set[str] = set()
    while waiting:
        here = waiting.pop()
        enters = ways.outputs.get(here) == PROGRAMME and by_id[here].placement.mode != "none"
        if enters or here in ways.lfe:
            return True
        if here not in seen:
            seen.add(here)
            waiting += list(ways.buses_reached_from(here))
    return False
