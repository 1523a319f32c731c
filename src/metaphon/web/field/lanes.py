"""Automation in Field: the lane beneath the chart, what is done to it, and lanes as tables and block formats."""

import json
from collections.abc import Callable
from typing import Any

import numpy as np
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_POST
from pydantic import ValidationError

from metaphon.core.engine.plan import length_frames
from metaphon.core.errors import InputError
from metaphon.core.files import adm_blocks, lane_table
from metaphon.core.process.registry import KINDS
from metaphon.core.scene import lanes as lane_work
from metaphon.core.scene.conversion import FORMS, in_form, place_lanes, positions, sampled_times, used_lanes
from metaphon.core.scene.mix import Automation, Breakpoint, range_of
from metaphon.core.scene.mix import Mix as Scene
from metaphon.core.scene.mix import Strip as Said
from metaphon.web.field.edits import rewrite
from metaphon.web.mixes.assemble import scene_of
from metaphon.web.mixes.models import Mix, Strip
from metaphon.web.mixes.numbers import parse_number
from metaphon.web.mixes.permissions import mix_for
from metaphon.web.mixes.views import ids_in
from metaphon.web.shell.context import editing

_LARGEST = 5_000_000
_WORDS = {
    "gain_db": "Gain, dB", "azimuth_deg": "Azimuth, °", "elevation_deg": "Elevation, °", "distance": "Distance",
    "extent_deg": "Width, °", "extent_height_deg": "Height, °", "extent_depth": "Depth", "x": "Right", "y": "Front",
    "z": "Up", "extent_x": "Width in the room", "extent_y": "Depth in the room", "extent_z": "Height in the room",
    "pair_deg": "Pair apart, °", "divergence": "Divergence", "diffuseness": "Diffuseness", "roll_deg": "Roll, °",
}  # fmt: skip


def _strip(request: HttpRequest, mix_id: int, strip_id: int) -> tuple[Mix, Strip]:
    mix = mix_for(request, mix_id)
    return mix, get_object_or_404(Strip.objects.select_related("placement"), pk=strip_id, mix=mix)


def _said(scene: Scene, strip: Strip) -> Said:
    return next(one for one in scene.strips if one.id == strip.ref)


def _offered(scene: Scene, strip: Said) -> dict[str, str]:
    """Every parameter of a strip that may move, by what follows its id in a lane's target, in words."""
    found = {"gain_db": _WORDS["gain_db"]}
    place = strip.placement
    names: tuple[str, ...] = ("azimuth_deg",)
    if place.mode == "object":
        names = (*FORMS[place.coordinates], "pair_deg", "divergence", "diffuseness")
    elif place.mode == "scene":
        names = ("azimuth_deg", "elevation_deg", "roll_deg")
    found |= {f"placement/{name}": _WORDS[name] for name in names}
    titles = {bus.id: bus.name for bus in scene.buses}
    found |= {f"sends/{send.bus}/level_db": f"Send to {titles[send.bus]}, dB" for send in strip.sends}
    for number, processor in enumerate(strip.chain):
        title = KINDS[processor.kind].title
        found |= {f"chain/{number}/{name}": f"{title}, {_told(name)}" for name in _numbers(processor)}
        for band, held in enumerate(getattr(processor, "bands", ())):
            found |= {
                f"chain/{number}/bands/{band}/{name}": f"{title}, band {band + 1}, {_told(name)}"
                for name in _numbers(held)
            }
    return found


def _numbers(part: Any) -> list[str]:
    fields = type(part).model_fields.items()
    return [
        name for name, field in fields if field.annotation is float and any(hasattr(m, "ge") for m in field.metadata)
    ]


def _told(name: str) -> str:
    return (
        name.replace("_db", ", dB")
        .replace("_hz", ", Hz")
        .replace("_ms", ", ms")
        .replace("_deg", ", °")
        .replace("_", " ")
    )


def show(request: HttpRequest, mix_id: int, strip_id: int) -> HttpResponse:
    """The lane of one parameter of a strip: the one asked for, else the first that it has."""
    mix, strip = _strip(request, mix_id, strip_id)
    scene = scene_of(mix)
    said = _said(scene, strip)
    offered = _offered(scene, said)
    head = f"{strip.ref}/"
    lanes = {lane.target.removeprefix(head): lane for lane in scene.automation if lane.target.startswith(head)}
    kept = [name for name in lanes if name not in offered]
    wanted = request.GET.get("parameter", "")
    first = next((name for name in offered if name in lanes), next(iter(offered)))
    name = wanted if wanted in offered or wanted in kept else first
    lane = lanes.get(name)
    low, high = range_of(scene, head + name)
    try:
        length_s = length_frames(scene) / scene.sample_rate_hz
    except InputError:
        length_s = 60.0
    data = {
        "revision": mix.revision, "parameter": name, "low": low, "high": high, "turns": lane_work.is_turning(name), "length_s": length_s,
        "points": [[p.t_s, p.value, p.curve] for p in lane.points] if lane else [],
        "still": _still(said, name), "title": offered.get(name, name),
    }  # fmt: skip
    context = {
        **editing(request, mix), "strip": strip, "data": json.dumps(data), "name": name, "lane": lane,
        "has": [(n, offered[n]) for n in offered if n in lanes],
        "may": [(n, offered[n]) for n in offered if n not in lanes],
        "kept": [(n, _WORDS.get(n.split("/")[-1], n)) for n in kept],
        "is_kept": name in kept, "moves_place": any(n.startswith("placement/") for n in lanes),
    }  # fmt: skip
    return render(request, "field/lanes.html", context)


def _still(part: Any, name: str) -> float:
    """The value of a parameter where no lane moves it."""
    for step in name.split("/"):
        if isinstance(part, tuple):
            part = next(item for i, item in enumerate(part) if step in (str(i), getattr(item, "bus", None)))
        else:
            held = getattr(part, step)
            part = part.extent_deg if held is None else held
    return float(part)


@require_POST
def draw(request: HttpRequest, mix_id: int, strip_id: int) -> HttpResponse:
    """Set breakpoints: `points` is JSON, [[seconds, value, curve], ...]; all of the lane, or with `into` drawn into it."""
    mix, strip = _strip(request, mix_id, strip_id)
    name = request.POST.get("parameter", "")
    try:
        rows = json.loads(request.POST.get("points", ""))
        points = [
            Breakpoint.model_validate({"t_s": max(float(t), 0.0), "value": float(v), "curve": curve})
            for t, v, curve in rows
        ]
    except (ValueError, TypeError, ValidationError):
        raise InputError("These breakpoints cannot be read; draw them again.") from None
    points.sort(key=lambda p: p.t_s)
    target = f"{strip.ref}/{name}"

    def change(scene: Scene) -> Scene:
        if "into" in request.POST:
            scene = lane_work.drawn(scene, target, points)
            low, high = range_of(scene, target)
            return lane_work.with_lane(scene, lane_work.thinned(lane_work.lane_of(scene, target), (high - low) / 720.0))
        if not points:
            return lane_work.without_lane(scene, target)
        lane_work.drawn(lane_work.without_lane(scene, target), target, points)  # refuses what is out of range
        return lane_work.with_lane(scene, Automation(target=target, points=tuple(points)))

    return rewrite(request, mix, f"{strip.name}: {_told(name.split('/')[-1])} drawn", change)


@require_POST
def act(request: HttpRequest, mix_id: int, strip_id: int) -> HttpResponse:
    """Trim, stretch, scale, thin, copy or take away a lane."""
    mix, strip = _strip(request, mix_id, strip_id)
    name, action = request.POST.get("parameter", ""), request.POST.get("action", "")
    target = f"{strip.ref}/{name}"
    others = list(mix.strips.filter(pk__in=ids_in(request)).exclude(pk=strip.pk).values_list("ref", flat=True))

    def number(field: str, what: str, low: float, high: float, default: str = "") -> float:
        return parse_number(request.POST.get(field, "") or default, what, low, high)

    def over(work: Callable[[Automation, Scene], Automation]) -> Callable[[Scene], Scene]:
        return lambda scene: lane_work.with_lane(scene, work(lane_work.lane_of(scene, target), scene))

    def thin(lane: Automation, scene: Scene) -> Automation:
        low, high = range_of(scene, target)
        return lane_work.thinned(lane, number("within", "The difference", 0.0, high - low, f"{(high - low) / 360.0:g}"))

    def scale(lane: Automation, scene: Scene) -> Automation:
        low, high = range_of(scene, target)
        middle = float(np.mean([p.value for p in lane.points]))
        about = number("about", "The middle", low, high, f"{min(max(middle, low), high):g}")
        return lane_work.scaled(lane, number("factor", "The factor", -10.0, 10.0), about, low, high)

    def trim(lane: Automation, scene: Scene) -> Automation:
        start, end = number("start_s", "The start", 0.0, 86400.0, "0"), number("end_s", "The end", 0.0, 86400.0)
        if end <= start:
            raise InputError("The end lies before the start; type a later end.")
        return lane_work.trimmed(lane, start, end)

    def stretch(lane: Automation, scene: Scene) -> Automation:
        return lane_work.stretched(
            lane, number("factor", "The factor", 0.01, 100.0, "1"), number("by_s", "The shift", -86400.0, 86400.0, "0")
        )

    def copy(scene: Scene) -> Scene:
        if not others:
            raise InputError("Choose the sources to copy to as well, with Shift.")
        parts = [name]
        if request.POST.get("whole") == "on":  # the whole path, not this lane alone
            parts = [f"placement/{n}" for n in place_lanes(scene, strip.ref)]
        return lane_work.copied(scene, [f"{strip.ref}/{part}" for part in parts], others)

    works: dict[str, tuple[str, Callable[[Scene], Scene]]] = {
        "trim": ("trimmed", over(trim)),
        "stretch": ("moved in time", over(stretch)),
        "scale": ("scaled", over(scale)),
        "thin": ("thinned", over(thin)),
        "copy": (f"copied to {len(others)} more", copy),
        "remove": ("lane taken away", lambda scene: lane_work.without_lane(scene, target)),
    }
    if action not in works:
        raise InputError("A lane can be trimmed, stretched, scaled, thinned, copied or taken away.")
    words, work = works[action]
    return rewrite(request, mix, f"{strip.name}, {_told(name.split('/')[-1])}: {words}", work)


def table(request: HttpRequest, mix_id: int, strip_id: int) -> HttpResponse:
    """All lanes of a strip as CSV."""
    mix, strip = _strip(request, mix_id, strip_id)
    lanes = [lane for lane in scene_of(mix).automation if lane.target.startswith(f"{strip.ref}/")]
    return _file(lane_table.written(lanes), f"{strip.ref}_automation.csv", "text/csv")


def blocks(request: HttpRequest, mix_id: int, strip_id: int) -> HttpResponse:
    """The path of an object as block formats of the Audio Definition Model."""
    mix, strip = _strip(request, mix_id, strip_id)
    scene = scene_of(mix)
    said = _said(scene, strip)
    place = said.placement
    if place.mode != "object":
        raise InputError(f"{strip.name} is no object; only objects have block formats.")
    lanes = used_lanes(scene, said)
    straight = all(p.curve == "linear" for lane in lanes.values() for p in lane.points)
    marks = {p.t_s for lane in lanes.values() for p in lane.points}
    times = np.array(sorted(marks)) if lanes and straight else sampled_times(lanes.values()) if lanes else np.zeros(1)
    try:
        end_s = length_frames(scene) / scene.sample_rate_hz
    except InputError:
        end_s = float(times[-1])
    text = adm_blocks.written(strip.name, times, positions(place, lanes, times), place.coordinates == "cube", end_s)
    return _file(text, f"{strip.ref}_blocks.xml", "application/xml")


def _file(text: str, name: str, kind: str) -> HttpResponse:
    return HttpResponse(text, content_type=kind, headers={"Content-Disposition": f'attachment; filename="{name}"'})


@require_POST
def bring(request: HttpRequest, mix_id: int, strip_id: int) -> HttpResponse:
    """Read lanes from a CSV table or from block formats; what the strip has of the same kind is replaced."""
    mix, strip = _strip(request, mix_id, strip_id)
    file = request.FILES.get("file")
    if file is None or (file.size or 0) > _LARGEST:
        raise InputError("Choose a CSV table or an XML file of block formats, 5 MB at most.")
    try:
        text = file.read().decode("utf-8-sig")
    except UnicodeDecodeError:
        raise InputError(f"{file.name} is no text; bring CSV or XML.") from None
    is_xml = text.lstrip().startswith("<")

    def change(scene: Scene) -> Scene:
        lanes = _from_blocks(text, _said(scene, strip)) if is_xml else lane_table.read(text, strip.ref)
        for lane in lanes:
            lane_work.drawn(lane_work.without_lane(scene, lane.target), lane.target, lane.points)
            scene = lane_work.with_lane(scene, lane)
        return scene

    return rewrite(request, mix, f"{strip.name}: automation brought in from {file.name}", change)


def _from_blocks(text: str, said: Said) -> list[Automation]:
    in_room, times, values = adm_blocks.read(text)
    form = said.placement.coordinates
    rows = in_form(values, "cube" if in_room else "sphere", form, said.placement.reference)
    found = []
    for name, row in zip(FORMS[form], rows, strict=True):
        if len(times) > 1 and np.ptp(row) > 1e-6:
            steps = zip(times, row, strict=True)
            points = tuple(Breakpoint(t_s=round(float(t), 5), value=round(float(v), 5)) for t, v in steps)
            found.append(Automation(target=f"{said.id}/placement/{name}", points=points))
    if not found:
        raise InputError("These block formats stand still; set the place by numbers instead.")
    return found
