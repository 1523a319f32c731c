"""What is changed about places in Field: one or many at once, one step in the history each."""

import json
from collections.abc import Callable
from typing import Any

import numpy as np
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_POST

from metaphon.core.errors import InputError
from metaphon.core.scene.conversion import FORMS, Converted, converted, returned
from metaphon.core.scene.gestures import recorded, still
from metaphon.core.scene.mix import Mix as Scene
from metaphon.core.scene.moving import mirrored, moved, spread, tilted, turned
from metaphon.core.spatial.directions import wrap_azimuth
from metaphon.core.spatial.layouts import own_layout
from metaphon.core.spatial.panning import vector_pan
from metaphon.core.spatial.zones import ZONES
from metaphon.web.field.views import SCHEMA, changed
from metaphon.web.mixes import journal
from metaphon.web.mixes.assemble import scene_of, write_changes
from metaphon.web.mixes.models import Mix, Placement, Strip, Target
from metaphon.web.mixes.numbers import parse_number
from metaphon.web.mixes.permissions import mix_for
from metaphon.web.mixes.placing import place_as, placed_as, said_as, set_as
from metaphon.web.mixes.views import ids_in, seen
from metaphon.web.shell.controls import controls_from

_CONTROLS = {control.name: control for control in controls_from(SCHEMA, {}, 0)}
_POSITION = {name: form for form, names in FORMS.items() for name in names[:3]}
_SIZES = {name: form for form, names in FORMS.items() for name in names[3:]}


def chosen(request: HttpRequest, mix: Mix) -> tuple[list[Strip], str]:
    """The strips that were posted (all objects where none were), and how the history names them."""
    ids = ids_in(request)
    strips = list(
        (mix.strips.filter(pk__in=ids) if ids else mix.strips.filter(placement__mode=Placement.Mode.OBJECT))
        .select_related("placement", "mix")
    )  # fmt: skip
    if not strips:
        raise InputError("There are no objects to move; place a track as an object first.")
    told = "All objects" if not ids else strips[0].name
    return strips, told if not ids or len(strips) == 1 else f"{told} and {len(strips) - 1} more"


def rewrite(
    request: HttpRequest, mix: Mix, what: str, change: Callable[[Scene], Scene], report: Any = None
) -> HttpResponse:
    """Put the whole scene through a change of the core, as one step."""
    with journal.edit(mix, request.user, what[:255], seen(request)):
        before = scene_of(mix)
        write_changes(mix, before, change(before))
    return changed(request, mix, report=report)


def _refs(strips: list[Strip]) -> list[str]:
    return [strip.ref for strip in strips]


@require_POST
def set_field(request: HttpRequest, mix_id: int, strip_id: int, field: str) -> HttpResponse:
    """Change one setting of a placement, and of those chosen with it (`ids`): positions go along, others become alike."""
    mix = mix_for(request, mix_id)
    strip = get_object_or_404(Strip.objects.select_related("placement", "mix"), pk=strip_id, mix=mix)
    ids = ids_in(request)
    together = mix.strips.filter(pk__in=ids).select_related("placement", "mix")
    strips = list(together) if strip.pk in ids else [strip]
    control = _CONTROLS.get(field)
    if control is None or field in ("mode", "layout", "coordinates", "reference"):
        raise InputError(f"A place has no {field}.")
    text = request.POST.get(field, "")
    told = strip.name if len(strips) == 1 else f"{strip.name} and {len(strips) - 1} more"
    if field == "excluded":
        zones = sorted(set(strip.placement.excluded) ^ {text})
        if text not in ZONES:
            raise InputError("Choose a zone from the list.")
        what = f"{told}: kept out of {', '.join(zones) or 'no zone'}"
        with journal.edit(mix, request.user, what[:255], seen(request)):
            Placement.objects.filter(strip__in=strips).update(excluded=zones)
        return changed(request, mix)
    if control.sort in ("switch", "choice"):
        value: Any = text == "on" if control.sort == "switch" else text
        if control.sort == "choice" and text not in dict(control.choices):
            raise InputError(f"{control.label}: choose from the list.")
        with journal.edit(mix, request.user, f"{told}: {control.label.lower()} {text}"[:255], seen(request)):
            Placement.objects.filter(strip__in=strips).update(**{field: value})
        return changed(request, mix)
    number = parse_number(text, control.label, control.low, control.high, control.unit)
    _refuse_automated(mix, strips, field)
    what = f"{told}: {control.label.lower()} {number:g} {control.unit}".strip()
    with journal.edit(mix, request.user, what[:255], seen(request)):
        _write(strip, strips, field, round(number) if field == "importance" else number)
    return changed(request, mix)


def _refuse_automated(mix: Mix, strips: list[Strip], field: str) -> None:
    targets = {f"{strip.ref}/placement/{field}": strip for strip in strips}
    lane = mix.automation.filter(target__in=targets).first()
    if lane:
        name = targets[lane.target].name
        raise InputError(f"{name} moves by automation; turn or mirror it, or take its lane away first.")


def _write(strip: Strip, strips: list[Strip], field: str, number: float) -> None:
    form = _POSITION.get(field) or _SIZES.get(field)
    if form is None or strip.placement.mode == Placement.Mode.SCENE:
        Placement.objects.filter(strip__in=strips).update(**{field: number})
        return
    step = number - said_as(strip.placement, form)[field]
    for other in strips:
        value = number
        if field in _POSITION and other.pk != strip.pk:
            low, high = _CONTROLS[field].low, _CONTROLS[field].high
            held = said_as(other.placement, form)[field] + step
            value = float(wrap_azimuth(held)) if field == "azimuth_deg" else min(max(held, low), high)
        set_as(other.placement, form, **{field: round(value, 4)})


@require_POST
def place(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Make the chosen ones a bed of a layout, object, scene or none."""
    mix = mix_for(request, mix_id)
    if not ids_in(request):
        raise InputError("Nothing is chosen; choose some sources first.")
    strips, told = chosen(request, mix)
    text = request.POST.get("mode", "")
    with journal.edit(mix, request.user, f"{told}: placed as {placed_as(text)}"[:255], seen(request)):
        place_as(strips, text)
    return changed(request, mix)


@require_POST
def record(request: HttpRequest, mix_id: int, strip_id: int) -> HttpResponse:
    """Keep a path drawn on the chart: `points` is JSON, [[seconds, azimuth, elevation], ...]."""
    mix = mix_for(request, mix_id)
    strip = get_object_or_404(Strip, pk=strip_id, mix=mix)
    try:
        points = [(float(t), float(a), float(e)) for t, a, e in json.loads(request.POST.get("points", ""))]
    except (ValueError, TypeError):
        raise InputError("This path cannot be read; record it again.") from None
    return rewrite(request, mix, f"Recorded a path of {strip.name}", lambda s: recorded(s, strip.ref, points))


@require_POST
def keep_still(request: HttpRequest, mix_id: int, strip_id: int) -> HttpResponse:
    """Take the path of a strip away."""
    mix = mix_for(request, mix_id)
    strip = get_object_or_404(Strip, pk=strip_id, mix=mix)
    return rewrite(request, mix, f"{strip.name} stands still", lambda s: still(s, strip.ref))


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
    return rewrite(request, mix, told, lambda scene: moved(scene, places))


@require_POST
def turn(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Turn, tilt, roll, spread or mirror the chosen ones, or all objects; `turn_all` turns objects and scenes."""
    mix = mix_for(request, mix_id)
    strips, told = chosen(request, mix)
    refs, how = _refs(strips), request.POST.get("how", "turn")
    if how == "mirror":
        return rewrite(request, mix, f"{told}: left and right exchanged", lambda s: mirrored(s, refs))
    if how == "spread":
        factor = parse_number(request.POST.get("by", ""), "The factor", 0.0, 10.0, "")
        return rewrite(request, mix, f"{told}: drawn apart by {factor:g}", lambda s: spread(s, refs, factor))
    by_deg = parse_number(request.POST.get("by", ""), "The turn", -180.0, 180.0, "°")
    if how == "tilt":
        return rewrite(request, mix, f"{told}: tilted by {by_deg:.0f}°", lambda s: tilted(s, refs, by_deg, 0.0))
    if how == "roll":
        return rewrite(request, mix, f"{told}: rolled by {by_deg:.0f}°", lambda s: tilted(s, refs, 0.0, by_deg))
    if how == "turn_all":
        refs = list(mix.strips.filter(placement__mode__in=("object", "scene")).values_list("ref", flat=True))
        told = "The whole scene"
    return rewrite(request, mix, f"{told}: turned by {by_deg:.0f}°", lambda s: turned(s, refs, by_deg))


@require_POST
def convert(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Say the positions of the chosen ones, or of all objects, in another form; `back` goes to the set that is kept."""
    mix = mix_for(request, mix_id)
    strips, told = chosen(request, mix)
    to, reference = request.POST.get("to", ""), request.POST.get("reference", "4+5+0")
    if to == "back":
        return rewrite(request, mix, f"{told}: back to the kept positions", lambda s: returned(s, _refs(strips)))
    if to not in FORMS:
        raise InputError("Convert to angles or to the room.")
    report: list[Converted] = []

    def change(scene: Scene) -> Scene:
        scene, found = converted(scene, _refs(strips), "cube" if to == "cube" else "sphere", reference)
        report.extend(found)
        return scene

    words = "the room" if to == "cube" else "angles"
    return rewrite(request, mix, f"{told}: positions said as {words}", change, report)


@require_POST
def add_layout(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Make a loudspeaker layout of one's own from a table, and render the mix to it too."""
    mix = mix_for(request, mix_id)
    layout = own_layout(request.POST.get("title", ""), request.POST.get("table", ""))
    vector_pan(0.0, 0.0, layout)  # refuses what cannot be panned on
    with journal.edit(mix, request.user, f"Added the layout {layout.title}"[:255], seen(request)):
        position = mix.targets.count()
        Target.objects.get_or_create(mix=mix, name=layout.name, defaults={"position": position})
    response = changed(request, mix)
    response["HX-Trigger"] = json.dumps({"mix-edited": True, "mix-changed": True})
    return response
