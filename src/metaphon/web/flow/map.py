"""The map: sources at the left, buses by how far down they lie, placements, targets.

Ways drawn as ribbons.
"""

from collections.abc import Iterable
from dataclasses import dataclass, field
from itertools import pairwise

from metaphon.core.document.mix import PROGRAMME, Bus, Strip
from metaphon.core.document.targets import bus_format, target_named
from metaphon.core.spatial.layouts import layout_named
from metaphon.web.jobs.models import Survey
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.snapshots import channels_of, document_of

_MARGIN = 14.0
_HEAD = 22.0
_TALLEST = 38.0
_LOWEST = 17.0
_GAP = 4.0
_CHANNEL = 12.0  # what a bundle of ways takes of a column it only passes
_TROUBLE = {"opposed_polarity", "late", "too_wide", "heard_twice"}


@dataclass
class Node:
    """A box of the map. `strip` is set for tracks and buses, `aim` for what can be routed to."""

    key: str
    name: str
    kind: str
    detail: str = ""
    strip: Strip | None = None
    aim: str = ""
    x: float = 0.0
    y: float = 0.0
    width: float = 0.0
    height: float = 0.0
    trouble: bool = False
    lead: float = (
        0.0  # its ribbons run straight to here, between the boxes of the second row of tracks
    )
    passes: bool = False  # no box: a bundle of ways on their way further

    @property
    def middle(self) -> float:
        return self.y + self.height / 2

    @property
    def right(self) -> float:
        return self.x + self.width

    @property
    def half(self) -> float:
        return self.height / 2

    @property
    def inner(self) -> float:
        return self.height - 3.0

    @property
    def live(self) -> float:
        """How long a full level is drawn."""
        return self.width - 4.0

    @property
    def baseline(self) -> float:
        return self.height / 2 + 4.0

    @property
    def edge_x(self) -> float:
        return self.width - (24.0 if self.trouble else 8.0)

    @property
    def flag_x(self) -> float:
        return self.width - 18.0

    @property
    def flag_y(self) -> float:
        return self.height / 2 + 2.0

    @property
    def letters(self) -> int:
        """How many letters of the name fit."""
        return int((self.width - 18 - 7 * len(self.detail) - (16 if self.trouble else 0)) / 6.3)

    @property
    def said(self) -> str:
        """What the box is, in words."""
        states = {
            "muted": self.strip is not None and self.strip.muted,
            "at rest": self.strip is not None and self.strip.resting,
            "phase trouble": self.trouble,
        }
        return ", ".join([self.name, self.kind, *(words for words, so in states.items() if so)])


@dataclass
class Ribbon:
    """A way between two boxes. `level` in dB or None where nothing is known to sound."""

    start: str
    end: str
    sort: str
    level_db: float | None
    trouble: bool = False
    faint: bool = False
    title: str = ""
    path: str = ""
    through: list[str] = field(default_factory=list)

    @property
    def thickness(self) -> float:
        if self.level_db is None:
            return 1.2
        return round(min(max((self.level_db + 66.0) / 6.0, 1.2), 9.0), 1)

    @property
    def edge(self) -> float:
        return self.thickness + 4.0


@dataclass
class Drawing:
    width: float
    height: float
    heads: list[tuple[float, str]]
    nodes: list[Node]
    ribbons: list[Ribbon]


def draw(mix: Mix, width: int, height: int) -> Drawing:
    """Boxes and ribbons of a mix in pixels, to fit a width.

    Taller than `height` only where boxes need it.
    """
    document = document_of(mix)
    strips = list(document.strips)
    channels = channels_of(mix, strips)
    survey = Survey.objects.filter(mix=mix).first()
    levels = survey.levels if survey else {}
    troubled = {f["subject"] for f in (survey.findings if survey else []) if f["rule"] in _TROUBLE}
    nodes = {f"s{s.id}": _node(s, channels[s.id], troubled) for s in strips}
    ribbons = list(_ways(strips, levels, troubled))
    columns = _columns(strips, nodes, ribbons, document.targets)
    by_key = {node.key: node for column in columns for node in column}
    ribbons = [ribbon for ribbon in ribbons if ribbon.start in by_key and ribbon.end in by_key]
    _bundle(columns, ribbons, by_key)
    _order(columns, ribbons)
    tall = _place(columns, width, height)
    for ribbon in ribbons:
        ribbon.path = _path(ribbon, by_key)
    heads = [(column[0].x, _head(i, len(columns))) for i, column in enumerate(columns) if column]
    shown = [node for column in columns for node in column if not node.passes]
    # thick ribbons below, sends above them
    ribbons.sort(key=lambda r: (r.sort == "send", r.trouble, -r.thickness))
    return Drawing(width, tall, heads, shown, ribbons)


def _head(column: int, columns: int) -> str:
    if column == 0:
        return "Tracks"
    if column == columns - 1:
        return "Targets"
    if column == columns - 2:
        return "Placed as"
    return "Buses" if column == 1 else ""


def _node(strip: Strip, channels: int, troubled: set[str]) -> Node:
    if isinstance(strip, Bus):
        width = bus_format(strip.layout)
        detail = layout_named(strip.layout).everyday if width.layout else f"A{width.order}"
        return Node(
            f"s{strip.id}", strip.name, "bus", detail, strip, strip.id, trouble=strip.id in troubled
        )
    detail = {0: "–", 1: "", 2: "st"}.get(channels, str(channels))
    return Node(f"s{strip.id}", strip.name, "track", detail, strip, trouble=strip.id in troubled)


def _placed(strip: Strip) -> str:
    place = strip.placement
    return f"p{place.mode}{place.layout if place.mode == 'bed' else ''}"


def _ways(
    strips: list[Strip], levels: dict[str, dict[str, float | None]], troubled: set[str]
) -> Iterable[Ribbon]:
    for strip in strips:
        known = levels.get(strip.id, {}).get("rms_dbfs")
        faint = strip.muted or strip.resting or (bool(levels) and known is None)
        trouble = strip.id in troubled
        start = f"s{strip.id}"
        if strip.output == PROGRAMME and strip.placement.mode != "none":
            yield Ribbon(
                start, _placed(strip), "main", known, trouble, faint, f"{strip.name} into the mix"
            )
        elif strip.output not in (PROGRAMME, None):
            yield Ribbon(
                start, f"s{strip.output}", "main", known, trouble, faint, f"{strip.name}, main feed"
            )
        for send in strip.sends:
            level = None if known is None else known + send.level_db
            title = f"{strip.name}, send {send.level_db:.1f} dB, {send.tap}"
            yield Ribbon(start, f"s{send.bus}", "send", level, False, faint or send.muted, title)


def _columns(
    strips: list[Strip], nodes: dict[str, Node], ribbons: list[Ribbon], names: Iterable[str]
) -> list[list[Node]]:
    depth = {f"s{s.id}": int(isinstance(s, Bus)) for s in strips}
    between = [r for r in ribbons if r.end in depth]
    for _ in range(
        len(strips)
    ):  # a bus lies below all that feed it; loops are refused before they get here
        deeper = [r for r in between if depth[r.end] <= depth[r.start] < len(strips)]
        if not deeper:
            break
        for ribbon in deeper:
            depth[ribbon.end] = max(depth[ribbon.end], depth[ribbon.start] + 1)
    last = max(depth.values(), default=0)
    columns: list[list[Node]] = [[] for _ in range(max(last, 1) + 1)]
    for key, node in nodes.items():
        columns[depth[key]].append(node)
    columns[0].sort(key=lambda node: bool(node.strip and node.strip.resting))
    places = []
    for key in dict.fromkeys(r.end for r in ribbons if r.end.startswith("p")):
        layout = key.removeprefix("pbed")
        name = {"pobject": "Objects", "pscene": "Scene"}.get(
            key
        ) or f"Bed {layout_named(layout).everyday}"
        places.append(Node(key, name, "place"))
    # somewhere to drop on, even before anything is placed
    places = places or [Node("pbed0+5+0", "The mix", "place")]
    for place in places:
        place.aim = PROGRAMME
    targets = []
    for number, name in enumerate(names):
        target = target_named(name)
        targets.append(
            Node(f"t{number}", target.title.split(" (")[0], "target", str(target.channels))
        )
        ribbons += [
            Ribbon(place.key, f"t{number}", "format", None, title=f"{place.name} in {target.title}")
            for place in places
        ]
    return [*columns, places, targets]


def _bundle(columns: list[list[Node]], ribbons: list[Ribbon], by_key: dict[str, Node]) -> None:
    """Ways that pass a column get a channel of their own there, shared by all with the same end."""
    column_of = {node.key: i for i, column in enumerate(columns) for node in column}
    for ribbon in ribbons:
        for column in range(column_of[ribbon.start] + 1, column_of[ribbon.end]):
            key = f"via{column}{ribbon.sort}{ribbon.end}"
            if key not in by_key:
                by_key[key] = Node(key, "", "via", passes=True)
                columns[column].append(by_key[key])
            ribbon.through.append(key)


def _order(columns: list[list[Node]], ribbons: list[Ribbon]) -> None:
    """Each box near the middle of what it is joined to, so that few ribbons cross (barycentre
    method, Sugiyama 1981).
    """
    steps = []
    for ribbon in ribbons:
        chain = [ribbon.start, *ribbon.through, ribbon.end]
        steps += list(pairwise(chain))
    for turn in range(4):
        order = range(1, len(columns)) if turn % 2 == 0 else range(len(columns) - 2, 0, -1)
        for i in order:
            near = columns[i - 1] if turn % 2 == 0 else columns[i + 1]
            place = {node.key: (n + 0.5) / len(near) for n, node in enumerate(near)}
            joined: dict[str, list[float]] = {}
            for a, b in steps:
                here, there = (b, a) if turn % 2 == 0 else (a, b)
                if there in place:
                    joined.setdefault(here, []).append(place[there])
            held = {node.key: (n + 0.5) / len(columns[i]) for n, node in enumerate(columns[i])}
            columns[i].sort(
                key=lambda node: (
                    sum(joined[node.key]) / len(joined[node.key])
                    if node.key in joined
                    else held[node.key]
                )
            )


def _place(columns: list[list[Node]], width: int, height: int) -> float:
    """Give every box its place; returns the height needed.

    Tracks that would be too low for their names stand in two columns, each before a gap of the
    other.
    """
    room = height - _HEAD - 8.0
    most = max(len(columns[0]), 1)
    double = room / most < _LOWEST
    pitch = max(room / (most + 1), _LOWEST / 2) if double else min(room / most, _TALLEST)
    tall = max(height, pitch * (most + double) + _HEAD + 8.0)
    track_width, box_width = (
        min(176.0, width * (0.125 if double else 0.17)),
        min(132.0, width * 0.125),
    )
    first_width = track_width * 2 + _GAP if double else track_width
    gap = (width - 2 * _MARGIN - first_width - box_width * (len(columns) - 1)) / max(
        len(columns) - 1, 1
    )
    for number, node in enumerate(columns[0]):
        second = double and number % 2 == 1
        node.x = _MARGIN + (track_width + _GAP if second else 0.0)
        node.y = _HEAD + number * pitch
        node.width, node.height = track_width, pitch * (1 + double) - _GAP
        node.lead = _MARGIN + first_width if double and not second else 0.0
    x = _MARGIN + first_width + gap
    for column in columns[1:]:
        sizes = [_CHANNEL if node.passes else min(max(pitch, _LOWEST), 34.0) for node in column]
        spare = tall - _HEAD - 8.0 - sum(sizes)
        between = min(max(spare / (len(column) + 1), 3.0), 44.0)
        used = sum(sizes) + between * max(len(column) - 1, 0)
        y = _HEAD + max((min(tall, pitch * most + _HEAD) - _HEAD - used) / 2, 0.0)
        for node, size in zip(column, sizes, strict=True):
            node.x, node.y, node.width, node.height = x, y, box_width, size
            y += size + between
            tall = max(tall, y + 8.0)
        x += box_width + gap
    return tall


def _path(ribbon: Ribbon, by_key: dict[str, Node]) -> str:
    start, end = by_key[ribbon.start], by_key[ribbon.end]
    # sends leave and arrive a little lower than the main feed, so that both can be seen
    low = 0.28 if ribbon.sort == "send" else -0.12 if start.kind != "place" else 0.0
    x, y = start.right, start.middle + low * start.height
    path = f"M{x:.1f} {y:.1f}"
    if start.lead:
        x = start.lead
        path += f"H{x:.1f}"
    for key in [*ribbon.through, ribbon.end]:
        node = by_key[key]
        to_y = node.middle + (low * node.height if node is end and end.kind == "bus" else 0.0)
        half = (node.x - x) / 2
        path += f"C{x + half:.1f} {y:.1f} {node.x - half:.1f} {to_y:.1f} {node.x:.1f} {to_y:.1f}"
        if node.passes:
            path += f"H{node.right:.1f}"
        x, y = node.right, to_y
    return path
