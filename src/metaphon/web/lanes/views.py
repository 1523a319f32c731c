"""Lanes: the automation of one strip, beneath every workspace, and as tables and block formats."""

import json
from typing import Any
from urllib.parse import urlencode

import numpy as np
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import render
from numpy.typing import NDArray

from metaphon.core.adm.channel_text import read as read_blocks
from metaphon.core.adm.channel_text import written as write_blocks
from metaphon.core.checks.sound import Sound
from metaphon.core.document.breakpoints import Breakpoints
from metaphon.core.document.channel_mapping import angles_used
from metaphon.core.document.lanes import is_turning, lanes_of, range_of
from metaphon.core.document.mix import Automation, Strip, Track
from metaphon.core.document.mix import Mix as Document
from metaphon.core.document.part import LATEST_S
from metaphon.core.document.positions import FORMS, in_form, positions, sampled_times, used_lanes
from metaphon.core.document.value_paths import field_at, movable_range, parsed, value_at
from metaphon.core.edits.command import strip_of
from metaphon.core.edits.lane_edits import BringLanes
from metaphon.core.edits.moved_values import moved_values
from metaphon.core.edits.typed_values import extra_of, label_of
from metaphon.core.engine.plan import length_frames
from metaphon.core.errors import InputError
from metaphon.core.files.apart import read_apart
from metaphon.core.files.lane_table import read as read_table
from metaphon.core.files.lane_table import written as write_table
from metaphon.web.mixes.editing import after_edit, carry_out, editing
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.permissions import changes_mix, mix_for
from metaphon.web.mixes.recordings import draw
from metaphon.web.mixes.snapshots import channels_of, document_of, recordings_of
from metaphon.web.mixes.waves import as_path, extremes
from metaphon.web.shell.bodies import takes
from metaphon.web.shell.fragments import fragment_of
from metaphon.web.shell.posted import UNREADABLE

_LARGEST = 5_000_000
_WORDS = {
    "extent_deg": "Width, °",
    "extent_height_deg": "Height, °",
    "extent_depth": "Depth",
    "x": "Right",
    "y": "Front",
    "z": "Up",
    "extent_x": "Width in the room",
    "extent_y": "Depth in the room",
    "extent_z": "Height in the room",
    "pair_deg": "Pair apart, °",
}
_OF_SCENES = ("azimuth_deg", "elevation_deg", "roll_deg")
_OF_OBJECTS = ("pair_deg", "divergence", "diffuseness")


def _strip(request: HttpRequest, mix_id: int, strip_id: str) -> tuple[Mix, Document, Strip]:
    mix = mix_for(request, mix_id)
    document = document_of(mix)
    return mix, document, strip_of(document, strip_id)


def _offered(mix: Mix, document: Document, strip: Strip) -> dict[str, str]:
    """Every parameter of a strip that may move, by its path, in words."""
    place, buses = strip.placement, {bus.id: bus for bus in document.buses}
    if place.mode == "object":
        names = (*FORMS[place.coordinates], *_OF_OBJECTS)
    elif place.mode == "scene":
        names = _OF_SCENES
    else:
        names = angles_used(strip, channels_of(mix, [strip])[strip.id], buses)
    found = {
        path: _words(strip, path) for path in ("gain_db", *(f"placement/{name}" for name in names))
    }
    found |= {
        f"sends/{send.bus}/level_db": f"Send to {buses[send.bus].name}, dB" for send in strip.sends
    }
    for number, processor in enumerate(strip.chain):
        head = f"chain/{number}"
        for path in _numbers(strip, processor, head):
            found[path] = f"{processor.title}, {_words(strip, path).lower()}"
        for band, held in enumerate(getattr(processor, "bands", ())):
            for path in _numbers(strip, held, f"{head}/bands/{band}"):
                found[path] = f"{processor.title}, band {band + 1}, {_words(strip, path).lower()}"
    return found


def _numbers(strip: Strip, part: Any, head: str) -> list[str]:
    paths = (f"{head}/{name}" for name in type(part).model_fields)
    return [path for path in paths if movable_range(strip, parsed(path))]


def _words(strip: Strip, path: str) -> str:
    found = field_at(strip, parsed(path))
    name = path.rsplit("/", 1)[-1]
    if found is None or name in _WORDS:
        return _WORDS.get(name, path)
    field = type(found[0]).model_fields[name]
    unit = extra_of(field).get("unit")
    return f"{label_of(name, field)}{f', {unit}' if unit else ''}"


@fragment_of("open_mix")
def show(request: HttpRequest, mix_id: int) -> HttpResponse:
    """The lane of one parameter of a strip: the one asked for, else the first that it has.

    With `wave` under its recordings, with a choice of strips.
    """
    mix = mix_for(request, mix_id)
    return render(request, "lanes/lanes.html", _shown(request, mix))


def values(request: HttpRequest, mix_id: int) -> JsonResponse:
    """What automation makes of the values that it moves, at a time, for controls to show."""
    document = document_of(mix_for(request, mix_id))
    try:
        at_s = float(request.GET.get("at", "0"))
    except ValueError:
        raise InputError(UNREADABLE) from None
    return JsonResponse(moved_values(document, at_s if 0.0 <= at_s <= LATEST_S else 0.0))


@changes_mix
def edit(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Carry out a command; gives the lane anew, and has the workspace follow a new one."""
    mix, applied = carry_out(request, mix_id)
    response = after_edit(request, mix, "lanes/lanes.html", _shown(request, mix))
    before, after = (
        {lane.target for lane in document.automation}
        for document in (applied.before, applied.after)
    )
    if before != after:
        response["HX-Trigger"] = "mix-edited, mix-changed"
    return response


def _shown(request: HttpRequest, mix: Mix) -> dict[str, Any]:
    document = document_of(mix)
    strips = [strip for strip in document.strips if not strip.resting]
    wanted = document.find_strip(request.GET.get("strip", ""))
    strip = wanted or next(iter(strips), None)
    if strip is None:
        return {**editing(request, mix), "strip": None}
    offered = _offered(mix, document, strip)
    lanes = lanes_of(document, strip.id)
    kept = [path for path in lanes if path not in offered]
    asked = request.GET.get("parameter", "")
    first = next((path for path in offered if path in lanes), next(iter(offered)))
    path = asked if asked in offered or asked in kept else first
    lane = lanes.get(path)
    low, high = range_of(document, f"{strip.id}/{path}")
    try:
        length_s = length_frames(document) / document.sample_rate_hz
    except InputError:
        length_s = 60.0
    data = {
        "revision": mix.revision,
        "strip": strip.id,
        "path": path,
        "low": low,
        "high": high,
        "turns": is_turning(path),
        "log": _is_log(strip, path),
        "length_s": length_s,
        "still": _still(strip, path),
        "title": offered.get(path, path),
        "points": [list(point) for point in lane.points] if lane else [],
    }
    wave = "wave" in request.GET
    return {
        **editing(request, mix),
        "strip": strip,
        "strips": strips if wave else (),
        "wave": _wave(mix, document, strip, length_s) if wave else None,
        "query": urlencode({"strip": strip.id, "parameter": path, **({"wave": 1} if wave else {})}),
        "data": json.dumps(data),
        "path": path,
        "still": data["still"],
        "lane": lane,
        "has": [(n, offered[n]) for n in offered if n in lanes],
        "may": [(n, offered[n]) for n in offered if n not in lanes],
        "kept": [(n, _words(strip, n)) for n in kept],
        "is_kept": path in kept,
        "moves_place": any(n.startswith("placement/") for n in lanes),
    }


def _wave(mix: Mix, document: Document, strip: Strip, length_s: float) -> str:
    """The recordings of a track over the whole mix; nothing for a bus."""
    if not isinstance(strip, Track) or not strip.clips:
        return ""
    recordings = recordings_of(mix)
    frames = round(length_s * document.sample_rate_hz)
    found = extremes(Sound(document), strip, "", lambda path: draw(recordings[path]), 0, frames)
    return as_path(found, 22.0)


def _is_log(strip: Strip, path: str) -> bool:
    """Whether a parameter is seen on a logarithmic scale, as frequencies are."""
    found = field_at(strip, parsed(path))
    return (
        found is not None and extra_of(type(found[0]).model_fields[found[1]]).get("scale") == "log"
    )


def _still(strip: Strip, path: str) -> float:
    """The value of a parameter where no lane moves it."""
    held = value_at(strip, parsed(path))
    return float(strip.placement.extent_deg if held is None else held)


def table(request: HttpRequest, mix_id: int, strip_id: str) -> HttpResponse:
    """All lanes of a strip as CSV."""
    _, document, strip = _strip(request, mix_id, strip_id)
    text = write_table(lanes_of(document, strip.id).values())
    return _file(text, f"{strip.id}_automation.csv", "text/csv")


def blocks(request: HttpRequest, mix_id: int, strip_id: str) -> HttpResponse:
    """The path of an object as block formats of the Audio Definition Model."""
    _, document, strip = _strip(request, mix_id, strip_id)
    place = strip.placement
    if place.mode != "object":
        raise InputError(f"{strip.name} is no object; only objects have block formats.")
    lanes = used_lanes(document, strip)
    times = np.zeros(1)
    if lanes:
        straight = all(lane.points.is_straight for lane in lanes.values())
        marks = np.unique(np.concatenate([lane.points.times_s for lane in lanes.values()]))
        times = marks if straight else sampled_times(lanes.values())
    try:
        end_s = length_frames(document) / document.sample_rate_hz
    except InputError:
        end_s = float(times[-1])
    text = write_blocks(
        strip.name, times, positions(place, lanes, times), place.coordinates == "cube", end_s
    )
    return _file(text, f"{strip.id}_blocks.xml", "application/xml")


def _file(text: str, name: str, kind: str) -> HttpResponse:
    return HttpResponse(
        text, content_type=kind, headers={"Content-Disposition": f'attachment; filename="{name}"'}
    )


@takes(6)
@changes_mix
def bring(request: HttpRequest, mix_id: int, strip_id: str) -> HttpResponse:
    """Read lanes from a CSV table or from block formats.

    What the strip has of the same kind is replaced.
    """
    _, _, strip = _strip(request, mix_id, strip_id)
    file = request.FILES.get("file")
    if file is None or (file.size or 0) > _LARGEST:
        raise InputError("Choose a CSV table or an XML file of block formats, 5 MB at most.")
    try:
        text = file.read().decode("utf-8-sig")
    except UnicodeDecodeError:
        raise InputError(f"{file.name} is no text; bring CSV or XML.") from None
    name = str(file.name)
    lanes = (
        _from_blocks(read_apart(read_blocks, text, name=name), strip)
        if text.lstrip().startswith("<")
        else read_apart(read_table, text, strip.id, name=name)
    )
    carry_out(request, mix_id, BringLanes(lanes=tuple(lanes), source=str(file.name)[:200]))
    return HttpResponse(status=204, headers={"HX-Trigger": "mix-edited, mix-changed"})


def _from_blocks(
    blocks: tuple[bool, NDArray[np.float64], NDArray[np.float64]], strip: Strip
) -> list[Automation]:
    in_room, times, values = blocks
    form = strip.placement.coordinates
    rows = in_form(values, "cube" if in_room else "sphere", form, strip.placement.reference)
    found = []
    for name, row in zip(FORMS[form], rows, strict=True):
        if len(times) > 1 and np.ptp(row) > 1e-6:
            points = Breakpoints(np.round(times, 5), np.round(row, 5))
            found.append(Automation(target=f"{strip.id}/placement/{name}", points=points))
    if not found:
        raise InputError("These block formats stand still; set the place by numbers instead.")
    return found
