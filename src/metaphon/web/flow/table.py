"""What Flow shows of a mix: a row for every track and bus, and the panel of the one that is open."""

from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
from django.urls import reverse

from metaphon.core.errors import InputError
from metaphon.core.files.audio import ClipReader
from metaphon.core.measure.correlation import through
from metaphon.core.process.basics import Basics
from metaphon.core.process.processor import Processor as Parameters
from metaphon.core.process.registry import KINDS
from metaphon.core.scene.entering import format_for, told
from metaphon.core.scene.mix import PROGRAMME
from metaphon.core.scene.targets import BUS_FORMATS, bus_format, target_named
from metaphon.core.spatial.layouts import LAYOUTS
from metaphon.web.flow.controls import controls_of, title_of
from metaphon.web.intake.recordings import SCENE_CHANNELS, kind_of
from metaphon.web.mixes.assemble import local_path
from metaphon.web.mixes.models import Mix, Placement, Processor, Send, Strip
from metaphon.web.mixes.permissions import User
from metaphon.web.mixes.placing import said_as
from metaphon.web.shell.controls import Control

_ANGLES = ("azimuth_deg", "elevation_deg", "extent_deg")
_FREQUENCIES_HZ = np.geomspace(20.0, 20000.0, 120)


@dataclass(frozen=True)
class SendShown:
    """A send as a row or panel shows it."""

    bus: Strip
    row: Send


@dataclass(frozen=True)
class Row:
    """A strip as the table shows it."""

    strip: Strip
    width: str
    kind: str
    channels: int
    output: str
    output_name: str
    placed: str
    placed_name: str
    where: dict[str, float]  # the place as angles
    moving: dict[str, bool]
    has_azimuth: bool
    has_elevation: bool
    turns: bool  # whether its sends can have an azimuth of their own
    inverted: bool
    stereo_width: float | None  # of its basics, for stereo recordings
    sends: list[SendShown]
    notes: tuple[str, ...]

    @property
    def shown(self) -> tuple[Any, ...]:
        """All that a drawing of the row depends on."""
        strip = self.strip
        return (
            strip.pk, strip.name, strip.muted, strip.soloed, strip.solo_safe, strip.resting, strip.gain_db, strip.take,
            strip.layout, strip.to_programme, strip.group.name if strip.group else "", self.width, self.kind, self.output,
            self.output_name, self.placed, self.placed_name, tuple(self.where.values()), tuple(self.moving.values()),
            self.has_azimuth, self.has_elevation, self.inverted, self.stereo_width, self.notes,
            tuple((s.bus.pk, s.bus.name, s.row.tap, s.row.muted, s.row.level_db) for s in self.sends),
        )  # fmt: skip


def table(mix: Mix, only: list[int] | None = None) -> dict[str, Any]:
    """All rows of a mix, or those of some strips, and what their menus offer."""
    everything = mix.strips.select_related("placement", "group", "print_of").prefetch_related(
        "clips__audio", "sends", "processors"
    )
    buses = {strip.pk: strip for strip in mix.strips.filter(kind=Strip.Kind.BUS)}
    lanes = set(mix.automation.values_list("target", flat=True))
    strips = everything if only is None else everything.filter(pk__in=only)
    rows = [_row(strip, buses, lanes) for strip in strips]
    return {
        "rows": [row for row in rows if not row.strip.resting],
        "resting_rows": [row for row in rows if row.strip.resting],
        "all_rows": rows,
        "buses": list(buses.values()),
        "beds": [layout for layout in LAYOUTS.values() if layout.channels > 1],
        "groups": list(mix.groups.all()),
        "formats": [target_named(name) for name in BUS_FORMATS],
        "base": reverse("flow:show", args=[mix.pk]),
    }


def channels_of(strip: Strip) -> int:
    """How many channels a strip carries; 0 for a track without a recording."""
    if strip.layout:
        return bus_format(strip.layout).channels
    clips = list(strip.clips.all())
    return clips[0].audio.channels if clips else 0


def _row(strip: Strip, buses: dict[int, Strip], lanes: set[str]) -> Row:
    channels = channels_of(strip)
    in_room = strip.placement.coordinates == "cube"
    moving = {
        name: any(f"{strip.ref}/placement/{one}" in lanes for one in ("xyz" if in_room else (name,)))
        for name in ("azimuth_deg", "elevation_deg")
    }
    output = buses.get(strip.output_bus_id or 0)
    place = strip.placement
    turns = strip.to_programme and place.mode == Placement.Mode.OBJECT
    pans = channels == 1 and (place.mode == Placement.Mode.BED or not strip.to_programme)
    try:
        own = format_for(strip.layout, place.mode == Placement.Mode.SCENE, channels) if channels else None
    except InputError:
        own = None
    aims = [output] if output else []
    notes = tuple(f"{aim.name}: {text}" for aim in aims if own and (text := told(own, bus_format(aim.layout))))
    if strip.to_programme and place.mode == Placement.Mode.BED and own:
        text = told(own, target_named(place.layout))
        notes = (f"Bed: {text}",) if text else ()
    bed = place.mode == Placement.Mode.BED
    return Row(
        strip=strip,
        width=bus_format(strip.layout).title.split(" (")[0] if strip.layout else kind_of(channels).split(" (")[0] if channels else "–",
        kind="bus" if strip.layout else "scene" if channels in SCENE_CHANNELS else "track",
        channels=channels,
        output=PROGRAMME if strip.to_programme else str(strip.output_bus_id or ""),
        output_name="The mix" if strip.to_programme else output.name if output else "Nothing",
        placed=place.layout if bed else place.mode,
        placed_name=f"Bed {LAYOUTS[place.layout].everyday}" if bed else place.get_mode_display(),
        where=said_as(place, "sphere") if place.coordinates == "cube" else {name: getattr(place, name) for name in _ANGLES},
        moving=moving,
        has_azimuth=turns or pans,
        has_elevation=turns,
        turns=own is not None and own.layout is not None,
        inverted=any(p.kind == "basics" and not p.bypassed and p.parameters.get("polarity_inverted") for p in strip.processors.all()),
        stereo_width=next((float(p.parameters.get("width", 1.0)) for p in strip.processors.all() if p.kind == "basics" and not p.bypassed), 1.0) if channels == 2 and not strip.layout else None,
        sends=[SendShown(buses[send.bus_id], send) for send in strip.sends.all() if send.bus_id in buses],
        notes=notes,
    )  # fmt: skip


@dataclass(frozen=True)
class Part:
    """A processor of the open strip: its controls, and its curve where it has one."""

    row: Processor
    title: str
    controls: list[Control]
    magnitude: str
    phase: str
    latency_samples: int
    pair: tuple[float | None, float | None] | None  # correlation and fold-down loss of a stereo recording, after it


def panel(mix: Mix, strip: Strip, user: User, drawn: dict[str, Any] | None = None) -> dict[str, Any]:
    """Everything the panel shows of one strip. `drawn` is the table drawn along with it."""
    rows = drawn["all_rows"] if drawn else []
    row = next((row for row in rows if row.strip.pk == strip.pk), None) or table(mix, [strip.pk])["all_rows"][0]
    channels = channels_of(strip)
    feeding = Send.objects.filter(bus=strip, source__resting=False).select_related("source")
    fed = mix.strips.filter(output_bus=strip, resting=False).select_related("placement")
    return {
        "chosen": strip,
        "row": row,
        "chain": [_part(row, strip, channels, mix.sample_rate_hz) for row in strip.processors.all()],
        "kinds": [(kind, model.title) for kind, model in KINDS.items()],
        "feeding": list(feeding),
        "fed_by": list(fed),
        "takes": list(strip.prints.all()),
        "taps": Send._meta.get_field("tap").choices,
        "points": list(user.starting_points.all()) if hasattr(user, "starting_points") else [],
        "formats": [target_named(name) for name in BUS_FORMATS],
        "base": reverse("flow:show", args=[mix.pk]),
    }


def parameters_of(row: Processor) -> Parameters:
    return KINDS[row.kind](**row.parameters)


@lru_cache(maxsize=256)
def _pair_powers(path: Path) -> np.ndarray:
    """The mean products of a stereo recording's channels, (2, 2), over its first two minutes."""
    reader = ClipReader(path)
    sound = reader.read(0, min(reader.frames, 120 * 48000)).astype(np.float64)
    reader.close()
    return sound @ sound.T / sound.shape[1]


def _part(row: Processor, strip: Strip, channels: int, rate_hz: int) -> Part:
    parameters = parameters_of(row)
    heard = parameters.response(np.minimum(_FREQUENCIES_HZ, 0.499 * rate_hz), rate_hz)
    magnitude = phase = ""
    if heard is not None:
        level = 20.0 * np.log10(np.maximum(np.abs(heard), 1e-6))
        magnitude = _curve(np.clip(30.0 - level * 1.25, -2.0, 62.0))
        phase = _curve(30.0 - np.angle(heard) / np.pi * 30.0)
    pair = None
    clip = strip.clips.first()
    if isinstance(parameters, Basics) and channels == 2 and clip:
        pair = through(parameters.matrix(2), _pair_powers(local_path(clip.audio)))
    controls = controls_of(row, channels)
    return Part(row, title_of(row), controls, magnitude, phase, parameters.latency_samples(rate_hz), pair)


def _curve(heights: np.ndarray) -> str:
    """A path over the frequencies, 240 wide: 20 Hz at the left, 20 kHz at the right."""
    x = np.linspace(0.0, 240.0, len(heights))
    return "M" + " ".join(f"{a:.1f} {b:.1f}" for a, b in zip(x, heights, strict=True))
