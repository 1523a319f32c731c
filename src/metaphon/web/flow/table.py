"""What Flow shows of a mix: a row for every track and bus, and what the menus in it offer."""

import json
from dataclasses import dataclass
from typing import Any

from django.urls import reverse

from metaphon.core.document.channel_mapping import (
    angles_used,
    describe_mapping,
    format_of,
    told_layout,
)
from metaphon.core.document.mix import PROGRAMME, Bus, Send, Strip, Track
from metaphon.core.document.mix import Mix as Document
from metaphon.core.document.targets import BUS_FORMATS, Target, bus_format, target_named
from metaphon.core.edits.values import angles_of_strip
from metaphon.core.errors import InputError
from metaphon.core.spatial.downmix import Shares
from metaphon.core.spatial.layouts import LAYOUTS, LOUDSPEAKERS, Layout
from metaphon.core.spatial.recording_layout import UNUSED, layouts_of
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.recordings import SCENE_CHANNELS, kind_of
from metaphon.web.mixes.snapshots import channels_of

_MODES = {"bed": "Bed", "object": "Object", "scene": "Scene", "none": "None"}


@dataclass(frozen=True)
class SendShown:
    """A send as a row or panel shows it."""

    bus: Strip
    send: Send

    @property
    def path(self) -> str:
        """What its level is called in a command."""
        return f"sends/{self.bus.id}/level_db"


@dataclass(frozen=True)
class Row:
    """A strip as the table shows it."""

    strip: Strip
    place: int  # among the tracks, or among the buses
    group: str
    width: str
    kind: str
    channels: int
    output: str
    output_name: str
    named: tuple[tuple[int, str], ...]  # the channels of a wide recording, and what each is
    placed: str
    placed_name: str
    where: dict[str, float]  # the place as angles
    has_azimuth: bool
    has_elevation: bool
    turns: bool  # whether its sends can have an azimuth of their own
    inverted: bool
    stereo_width: float | None  # of its basics, for stereo recordings
    chain: tuple[tuple[str, bool], ...]  # the processors in brief, and whether each is at work
    sends: list[SendShown]
    notes: tuple[str, ...]
    may_send: bool  # whether there is a bus that it does not send to yet

    @property
    def layouts(self) -> list[Layout]:
        """The layouts that its recording may have, by its number of channels."""
        return layouts_of(len(self.named))

    @property
    def labels_json(self) -> str:
        """What its channels are now, in their order in the recording, for a command."""
        return json.dumps([label for _, label in self.named])

    @property
    def all_labels(self) -> list[str]:
        """Every loudspeaker that a channel may be, and none."""
        return [*LOUDSPEAKERS, UNUSED]

    @property
    def can_be_split(self) -> bool:
        """Whether objects can be made of its channels."""
        is_bed = self.in_programme and self.strip.placement.mode == "bed"
        return is_bed and self.channels > 1 and not self.is_bus and self.kind == "track"

    @property
    def is_bus(self) -> bool:
        return isinstance(self.strip, Bus)

    @property
    def in_programme(self) -> bool:
        return self.strip.output == PROGRAMME

    @property
    def key(self) -> tuple[Any, ...]:
        """All that a drawing of the row depends on."""
        strip = self.strip
        return (
            strip.id,
            self.place,
            strip.group,
            strip.name,
            strip.colour,
            strip.note,
            strip.muted,
            strip.soloed,
            strip.solo_safe,
            strip.resting,
            strip.gain_db,
            strip.output,
            strip.lfe,
            self.group,
            self.width,
            self.kind,
            self.output_name,
            self.placed,
            self.placed_name,
            getattr(strip, "layout", ""),
            getattr(strip, "take", 0),
            tuple(self.where.values()),
            self.named,
            self.has_azimuth,
            self.has_elevation,
            self.inverted,
            self.stereo_width,
            self.notes,
            self.may_send,
            self.chain,
            tuple(
                (s.bus.id, s.bus.name, s.send.tap, s.send.muted, s.send.level_db)
                for s in self.sends
            ),
        )


def table(mix: Mix, document: Document, only: list[str] | None = None) -> dict[str, Any]:
    """All rows of a mix, or those of some strips, and what their menus offer."""
    wanted = set(only) if only is not None else None
    strips = [strip for strip in document.strips if wanted is None or strip.id in wanted]
    channels = channels_of(mix, strips)
    about = _About(
        {one.id: n for among in (document.tracks, document.buses) for n, one in enumerate(among)},
        {bus.id: bus for bus in document.buses},
        {group.id: group.name for group in document.groups},
        document.fold_down.shares,
    )
    rows = [_row(strip, channels[strip.id], about) for strip in strips]
    return {
        "sections": _by_group([row for row in rows if not row.strip.resting]),
        "resting_rows": [row for row in rows if row.strip.resting],
        "all_rows": rows,
        "buses": list(document.buses),
        "beds": [layout for layout in LAYOUTS.values() if layout.channels > 1],
        "groups": list(document.groups),
        "formats": [target_named(name) for name in BUS_FORMATS],
        "base": reverse("flow:show", args=[mix.pk]),
    }


@dataclass(frozen=True)
class Section:
    """Rows of one group, or those between groups, where `group` is empty."""

    group: str
    title: str
    rows: list[Row]


def _by_group(rows: list[Row]) -> list[Section]:
    """The rows with each group together, where the first of it stands."""
    sections: list[Section] = []
    grouped: dict[str, Section] = {}
    for row in rows:
        group = row.strip.group or ""
        if group in grouped:
            grouped[group].rows.append(row)
            continue
        if group or not sections or sections[-1].group:
            sections.append(Section(group, row.group, []))
        sections[-1].rows.append(row)
        if group:
            grouped[group] = sections[-1]
    return sections


@dataclass(frozen=True)
class _About:
    """What rows need to know of the rest of the mix."""

    places: dict[str, int]
    buses: dict[str, Bus]
    groups: dict[str, str]
    shares: Shares


def _row(strip: Strip, channels: int, about: _About) -> Row:
    place, programme = strip.placement, strip.output == PROGRAMME
    output = about.buses.get(str(strip.output))
    own = _format(strip, channels)
    angles = angles_used(strip, channels, about.buses)
    bed = place.mode == "bed"
    return Row(
        strip=strip,
        place=about.places[strip.id],
        group=about.groups.get(str(strip.group), ""),
        width=_width(strip, channels, own),
        named=tuple(channels_named(strip, own)),
        kind="bus"
        if isinstance(strip, Bus)
        else "scene"
        if channels in SCENE_CHANNELS
        else "track",
        channels=channels,
        output=strip.output or "",
        output_name="The mix" if programme else output.name if output else "Nothing",
        placed=place.layout if bed else place.mode,
        placed_name=f"Bed {LAYOUTS[place.layout].everyday}" if bed else _MODES[place.mode],
        where=angles_of_strip(strip),
        has_azimuth="azimuth_deg" in angles,
        has_elevation="elevation_deg" in angles,
        turns=own is not None and own.layout is not None,
        inverted=_basics_value(strip, "polarity_inverted", False),
        stereo_width=_basics_value(strip, "width", 1.0)
        if channels == 2 and not isinstance(strip, Bus)
        else None,
        chain=tuple((one.brief, not one.bypassed) for one in strip.chain),
        sends=[SendShown(about.buses[send.bus], send) for send in strip.sends],
        notes=tuple(_notes(strip, own, output, about.shares)),
        may_send=bool(set(about.buses) - {strip.id} - {send.bus for send in strip.sends}),
    )


def _format(strip: Strip, channels: int) -> Target | None:
    try:
        return format_of(strip, channels) if channels else None
    except InputError:
        return None


def _width(strip: Strip, channels: int, own: Target | None) -> str:
    if own is None:
        return kind_of(channels) if channels else "–"
    if isinstance(strip, Track) and not strip.layout and strip.placement.mode != "bed":
        return kind_of(channels).split(" (")[0]
    return own.title.split(" (")[0]


def channels_named(strip: Strip, own: Target | None) -> list[tuple[int, str]]:
    """The channels of a wide recording in their order in it, counted from 1, and what each is."""
    if not isinstance(strip, Track) or own is None or own.layout is None:
        return []
    told = told_layout(strip, own.channels)
    places = told.order if told else range(own.channels)
    used = dict(zip(places, own.channel_labels, strict=True))
    recorded = told.recorded if told else own.channels
    if recorded <= 2:
        return []
    return [(place + 1, used.get(place, UNUSED)) for place in range(recorded)]


def _notes(strip: Strip, own: Target | None, output: Bus | None, shares: Shares) -> list[str]:
    """What happens to the channels on their way, in words."""
    if own is None:
        return []
    if strip.output == PROGRAMME and strip.placement.mode == "bed":
        text = describe_mapping(own, target_named(strip.placement.layout), shares)
        return [f"Bed: {text}"] if text else []
    text = describe_mapping(own, bus_format(output.layout), shares) if output else ""
    return [f"{output.name}: {text}"] if output and text else []


def _basics_value(strip: Strip, name: str, otherwise: Any) -> Any:
    place = next(
        (n for n, p in enumerate(strip.chain) if p.kind == "basics" and not p.bypassed), None
    )
    return otherwise if place is None else getattr(strip.chain[place], name)
