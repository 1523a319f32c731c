"""Field: what is placed where, on one whole-sphere chart."""

import json
from collections.abc import Callable
from typing import Any

import numpy as np
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.urls import reverse
from django.views.decorators.http import require_POST

from metaphon.core.errors import InputError
from metaphon.core.scene.gestures import recorded, still
from metaphon.core.scene.mix import Mix as Scene
from metaphon.core.scene.moving import mirrored, moved, turned
from metaphon.core.scene.profiles import PROFILES, Profile, changes
from metaphon.core.spatial.chart import graticule, on_chart
from metaphon.core.spatial.layouts import LAYOUTS, Layout
from metaphon.core.spatial.localisation import localised
from metaphon.core.spatial.panning import vector_pan
from metaphon.core.spatial.room_cube import to_cube, to_sphere
from metaphon.web.mixes import journal
from metaphon.web.mixes.assemble import scene_of, write_changes
from metaphon.web.mixes.models import Mix, Placement, Strip
from metaphon.web.mixes.numbers import parse_number
from metaphon.web.mixes.permissions import mix_for
from metaphon.web.mixes.views import after_edit, seen
from metaphon.web.shell.context import editing

_DEFAULT = "4+7+0"
_AXES = {"x": "Right", "y": "Front", "z": "Up"}
_CELLS = (48, 24)  # of the drawing of how sharp a layout is: turns and heights


def show(request: HttpRequest, mix_id: int) -> HttpResponse:
    mix = mix_for(request, mix_id)
    wanted = request.GET.get("layout", "")
    own = [t.name for t in mix.targets.all() if t.name in LAYOUTS and LAYOUTS[t.name].channels > 2]
    layout = LAYOUTS.get(wanted) or LAYOUTS[own[0] if own else _DEFAULT]
    sharp = request.GET.get("sharpness") == "on"
    profile = PROFILES.get(request.GET.get("profile", ""), PROFILES["open"])
    context = {
        **editing(request, mix),
        **_placed(mix, profile),
        "profile": profile,
        "profiles": PROFILES.values(),
        "layout": layout,
        "layouts": [row for row in LAYOUTS.values() if row.channels > 1],
        "graticule": graticule(),
        "loudspeakers": _loudspeakers(layout),
        "sharpness": _sharpness(layout) if sharp else [],
        "sharp": sharp,
    }
    return render(request, "field/show.html", context)


def _placed(mix: Mix, profile: Profile = PROFILES["open"]) -> dict[str, Any]:
    """The strips that enter the programme, objects first, their automation, and what a profile will change."""
    told = changes(scene_of(mix), profile)
    lanes = {lane.target: lane.points for lane in mix.automation.all()}
    strips = mix.strips.filter(to_programme=True, resting=False).select_related("placement")
    rows = [_row(strip, lanes) for strip in strips if strip.placement.mode != Placement.Mode.NONE]
    rows.sort(key=lambda row: row["mode"] != Placement.Mode.OBJECT)
    for number, row in enumerate(rows, start=1):
        row["number"] = number
        row["changes"] = told.get(row["ref"], [])
    return {
        "rows": rows,
        "objects": json.dumps(
            [{k: v for k, v in row.items() if k not in ("strip", "urls", "changes")} for row in rows]
        ),
    }


def _row(strip: Strip, lanes: dict[str, list[dict[str, float]]]) -> dict[str, Any]:
    place = strip.placement
    path = {
        name: [[p["t_s"], p["value"]] for p in lanes[f"{strip.ref}/placement/{name}"]]
        for name in ("azimuth_deg", "elevation_deg")
        if f"{strip.ref}/placement/{name}" in lanes
    }
    return {
        "strip": strip, "id": strip.pk, "ref": strip.ref, "name": strip.name, "mode": place.mode, "muted": strip.muted,
        "layout": place.layout, "azimuth_deg": place.azimuth_deg, "elevation_deg": place.elevation_deg,
        "extent_deg": place.extent_deg, "path": path,
        "urls": [reverse("flow:set", args=[strip.mix_id, strip.pk, name]) for name in ("azimuth_deg", "elevation_deg")],
    }  # fmt: skip


def _loudspeakers(layout: Layout) -> list[dict[str, Any]]:
    found = []
    for label, low, (azimuth, elevation), vector in zip(
        layout.labels, layout.is_lfe, layout.angles_deg, layout.vectors, strict=True
    ):
        if not low:
            x, y = on_chart(azimuth, elevation)
            found.append({
                "label": label.replace("-", "−"), "x": 100 * x, "y": -100 * y,
                "plan_x": 90 * vector[0], "plan_y": -90 * vector[1], "side_x": 90 * vector[1], "side_y": -90 * vector[2],
            })  # fmt: skip
    return found


def _sharpness(layout: Layout) -> list[dict[str, Any]]:
    """How far off and how wide this layout plays each part of the sphere, as tiles of the chart."""
    turns, heights = _CELLS
    tiles = []
    edges_a, edges_e = np.linspace(-180, 180, turns + 1), np.degrees(np.arcsin(np.linspace(-1, 1, heights + 1)))
    middle_a, middle_e = (edges_a[1:] + edges_a[:-1]) / 2, (edges_e[1:] + edges_e[:-1]) / 2
    azimuth, elevation = np.meshgrid(middle_a, middle_e)
    judged = localised(azimuth.ravel(), elevation.ravel(), layout, vector_pan)
    for i, (error, spread) in enumerate(zip(judged.energy_error_deg, judged.spread_deg, strict=True)):
        e, a = divmod(i, turns)
        corners = on_chart(np.clip(edges_a[[a, a + 1, a + 1, a]], -179.99, 179.99), edges_e[[e, e, e + 1, e + 1]])
        path = "M" + "L".join(f"{100 * x:.1f} {-100 * y:.1f}" for x, y in corners) + "Z"
        grade = min(int((error + spread / 4) / 12.0), 4)
        tiles.append({"path": path, "grade": grade, "words": f"{error:.0f}° off, {spread:.0f}° wide"})
    return tiles


def _changed(
    request: HttpRequest, mix: Mix, what: str, change: Callable[[Scene, set[str]], Scene], refs: set[str]
) -> HttpResponse:
    with journal.edit(mix, request.user, what[:255], seen(request)):
        before = scene_of(mix)
        write_changes(mix, before, change(before, refs))
    profile = PROFILES.get(request.headers.get("X-Profile", ""), PROFILES["open"])
    return after_edit(request, mix, "field/changed.html", _placed(mix, profile))


def _chosen(request: HttpRequest, mix: Mix) -> tuple[set[str], str]:
    """The refs of the strips that were posted (all objects where none were), and how the history names them."""
    ids = [int(text) for text in request.POST.get("ids", "").split(",") if text.isdigit()]
    strips = mix.strips.filter(pk__in=ids) if ids else mix.strips.filter(placement__mode=Placement.Mode.OBJECT)
    names = list(strips.values_list("name", flat=True))
    if not names:
        raise InputError("There are no objects to move; place a track as an object first.")
    told = "All objects" if not ids else names[0] if len(names) == 1 else f"{names[0]} and {len(names) - 1} more"
    return set(strips.values_list("ref", flat=True)), told


def one(request: HttpRequest, mix_id: int, strip_id: int) -> HttpResponse:
    """The place of one strip by numbers, said in both ways."""
    mix = mix_for(request, mix_id)
    strip = get_object_or_404(Strip.objects.select_related("placement"), pk=strip_id, mix=mix)
    place = strip.placement
    cube = to_cube(place.azimuth_deg, place.elevation_deg, place.distance)
    context = {
        **editing(request, mix),
        "strip": strip,
        "base": f"{reverse('flow:show', args=[mix.pk])}{strip.pk}/set/",
        "moves": mix.automation.filter(target__startswith=f"{strip.ref}/placement/").exists(),
        "cube": [
            (axis, round(number, 4), words, reverse("field:set_axis", args=[mix.pk, strip.pk, axis]))
            for (axis, words), number in zip(_AXES.items(), cube, strict=True)
        ],
    }
    return render(request, "field/one.html", context)


@require_POST
def set_axis(request: HttpRequest, mix_id: int, strip_id: int, axis: str) -> HttpResponse:
    """Move one strip along an axis of the room; there is one position, so its angles follow."""
    mix = mix_for(request, mix_id)
    strip = get_object_or_404(Strip.objects.select_related("placement"), pk=strip_id, mix=mix)
    if axis not in _AXES:
        raise InputError("A room has x, y and z.")
    number = parse_number(request.POST.get(axis, ""), _AXES[axis], -1.0, 1.0, "")
    place = strip.placement
    cube = dict(zip(_AXES, to_cube(place.azimuth_deg, place.elevation_deg, place.distance), strict=True))
    there = to_sphere(**{**cube, axis: number})
    told = f"{strip.name}: {_AXES[axis].lower()} {number:.2f}"
    return _changed(request, mix, told, lambda scene, _: moved(scene, {strip.ref: there}), {strip.ref})


@require_POST
def record(request: HttpRequest, mix_id: int, strip_id: int) -> HttpResponse:
    """Keep a path drawn while the mix played: `points` is JSON, [[seconds, azimuth, elevation], ...]."""
    mix = mix_for(request, mix_id)
    strip = get_object_or_404(Strip, pk=strip_id, mix=mix)
    try:
        points = [(float(t), float(a), float(e)) for t, a, e in json.loads(request.POST.get("points", ""))]
    except (ValueError, TypeError):
        raise InputError("This path cannot be read; record it again.") from None
    return _changed(
        request,
        mix,
        f"Recorded a path of {strip.name}",
        lambda scene, _: recorded(scene, strip.ref, points),
        {strip.ref},
    )


@require_POST
def keep_still(request: HttpRequest, mix_id: int, strip_id: int) -> HttpResponse:
    """Take the path of a strip away."""
    mix = mix_for(request, mix_id)
    strip = get_object_or_404(Strip, pk=strip_id, mix=mix)
    return _changed(request, mix, f"{strip.name} stands still", lambda s, _: still(s, strip.ref), {strip.ref})


@require_POST
def move(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Set the places of one or more strips: `places` is JSON, {id: [azimuth, elevation]}."""
    mix = mix_for(request, mix_id)
    try:
        wanted = {int(key): (float(a), float(e)) for key, (a, e) in json.loads(request.POST.get("places", "")).items()}
    except (ValueError, TypeError, AttributeError):
        raise InputError("These places cannot be read; load the page again.") from None
    strips = {strip.pk: strip for strip in mix.strips.filter(pk__in=wanted)}
    if not strips or not np.isfinite(list(wanted.values())).all():
        raise InputError("These places cannot be read; load the page again.")
    places = {strip.ref: wanted[pk] for pk, strip in strips.items()}
    first = next(iter(strips.values()))
    azimuth, elevation = wanted[first.pk]
    told = (
        f"{first.name} at {azimuth:.0f}°, {elevation:.0f}°"
        if len(strips) == 1
        else f"Moved {first.name} and {len(strips) - 1} more"
    )
    return _changed(request, mix, told, lambda scene, _: moved(scene, places), set(places))


@require_POST
def turn(request: HttpRequest, mix_id: int) -> HttpResponse:
    mix = mix_for(request, mix_id)
    refs, told = _chosen(request, mix)
    by_deg = parse_number(request.POST.get("by_deg", ""), "The turn", -180.0, 180.0, "°")
    return _changed(request, mix, f"{told}: turned by {by_deg:.0f}°", lambda s, r: turned(s, r, by_deg), refs)


@require_POST
def mirror(request: HttpRequest, mix_id: int) -> HttpResponse:
    mix = mix_for(request, mix_id)
    refs, told = _chosen(request, mix)
    return _changed(request, mix, f"{told}: left and right exchanged", mirrored, refs)
