"""Field: what is placed where, on one whole-sphere chart and in perspective."""

import json
from dataclasses import dataclass, replace
from typing import Any

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.urls import reverse

from metaphon.core.errors import InputError
from metaphon.core.scene.conversion import FORMS, kept_apart_deg, other_form, place_lanes
from metaphon.core.scene.mix import Mix as Scene
from metaphon.core.scene.mix import Placement as Said
from metaphon.core.scene.profiles import PROFILES, Profile, changes
from metaphon.core.scene.targets import target_named
from metaphon.core.spatial.chart import graticule
from metaphon.core.spatial.layouts import LAYOUTS, OWN, Layout, layout_named
from metaphon.core.spatial.room_cube import REFERENCES
from metaphon.core.spatial.zones import ZONES
from metaphon.web.field.drawing import PANNERS, addresses, beds, compared, loudspeakers, source, truth
from metaphon.web.mixes.assemble import missing_from_targets, scene_of
from metaphon.web.mixes.models import Mix, Placement, Strip
from metaphon.web.mixes.permissions import mix_for
from metaphon.web.mixes.placing import said_as
from metaphon.web.mixes.views import after_edit
from metaphon.web.shell.context import editing
from metaphon.web.shell.controls import Control, controls_from

_DEFAULT = "4+7+0"
# the settings of a placement that are drawn as controls, by part of the panel
PARTS: dict[str, tuple[str, ...]] = {
    "size": ("extent_deg", "extent_height_deg", "extent_depth", "pair_deg", "divergence", "divergence_range_deg", "diffuseness"),
    "away": ("level_db_per_doubling", "air", "travel", "sends_too", "sphere_m"),
    "rules": ("importance", "snap", "on_sphere", "locked"),
    "turn": ("azimuth_deg", "elevation_deg", "roll_deg"),
    "decoding": ("decoder", "weighting"),
}  # fmt: skip
_SIZES_IN_ROOM = ("extent_x", "extent_y", "extent_z", "pair_deg", "divergence", "divergence_range_deg", "diffuseness")
_NAMES = {
    "extent_deg": "Width", "extent_height_deg": "Height", "extent_depth": "Depth", "extent_x": "Width", "extent_y": "Depth",
    "extent_z": "Height", "pair_deg": "Pair apart", "divergence_range_deg": "Divergence reach", "travel": "Delay, Doppler",
    "level_db_per_doubling": "Level, per doubling", "sphere_m": "Distance 1 is", "sends_too": "Sends too", "roll_deg": "Roll",
    "snap": "Nearest loudspeaker", "on_sphere": "Stay on the sphere", "air": "Air absorption", "weighting": "Weights",
    "elevation_deg": "Tilt", "azimuth_deg": "Turn",
}  # fmt: skip
_AXES = {"x": "Right", "y": "Front", "z": "Up"}


@dataclass(frozen=True)
class Shown:
    """A row of the list."""

    strip: Strip
    number: int
    data: dict[str, Any]
    moves: bool
    changes: list[str]

    @property
    def urls(self) -> list[str]:
        address = addresses(self.strip.mix_id, self.strip.pk)
        return [address(name) for name in ("azimuth_deg", "elevation_deg")]


def show(request: HttpRequest, mix_id: int) -> HttpResponse:
    mix = mix_for(request, mix_id)
    layout = _layout(mix, request.GET.get("layout", ""))
    panner = request.GET.get("truth", "")
    profile = PROFILES.get(request.GET.get("profile", ""), PROFILES["open"])
    speakers = loudspeakers(layout)
    context = {
        **editing(request, mix),
        **placed(mix, profile),
        "profile": profile,
        "profiles": PROFILES.values(),
        "layout": layout,
        "layouts": [*_own(mix), *(row for row in LAYOUTS.values() if row.channels > 1)],
        "graticule": graticule(),
        "loudspeakers": speakers,
        "vectors": json.dumps([{"label": one["label"], "vector": one["vector"]} for one in speakers]),
        "panners": [{"name": name, "group": way.group, "title": way.title} for name, way in PANNERS.items()],
        "panner": panner if panner in PANNERS else "",
        "tiles": truth(layout, panner) if panner in PANNERS else [],
        "compared": compared(layout, panner) if panner in PANNERS else [],
        "beds": [row for row in LAYOUTS.values() if row.channels > 1],
        "references": REFERENCES.values(),
    }
    return render(request, "field/show.html", context)


def _own(mix: Mix) -> list[Layout]:
    return [layout_named(target.name) for target in mix.targets.all() if target.name.startswith(OWN)]


def _layout(mix: Mix, wanted: str) -> Layout:
    targets = [target_named(target.name).layout for target in mix.targets.all()]
    own = [layout for layout in targets if layout and layout.channels > 2]
    try:
        return layout_named(wanted) if wanted else own[0] if own else LAYOUTS[_DEFAULT]
    except InputError:
        return own[0] if own else LAYOUTS[_DEFAULT]


def placed(mix: Mix, profile: Profile = PROFILES["open"]) -> dict[str, Any]:
    """The strips that enter the programme, objects first; what a profile will change, and what targets leave out."""
    scene = scene_of(mix)
    told = changes(scene, profile)
    said = {strip.id: strip for strip in scene.strips}
    strips = mix.strips.filter(to_programme=True, resting=False).select_related("placement", "group", "mix")
    entering = [strip for strip in strips if strip.placement.mode != Placement.Mode.NONE]
    entering.sort(key=lambda strip: strip.placement.mode != Placement.Mode.OBJECT)
    rows = []
    for number, strip in enumerate(entering, start=1):
        data = source(strip, said[strip.ref], scene) | {"number": number}
        rows.append(Shown(strip, number, data, bool(data["path"]), told.get(strip.ref, [])))
    return {
        "rows": rows,
        "objects": json.dumps([row.data for row in rows]),
        "bed_places": json.dumps(beds(scene)),
        "groups": sorted({str(row.data["group"]) for row in rows} - {""}),
        "aside": list(mix.strips.filter(resting=False, placement__mode="none", to_programme=True)),
        "left_out": [(target_named(name), what) for name, what in missing_from_targets(mix, scene).items() if what],
    }


def one(request: HttpRequest, mix_id: int, strip_id: int) -> HttpResponse:
    """The placement of one strip by numbers, its position said in both ways."""
    mix = mix_for(request, mix_id)
    strip = get_object_or_404(Strip.objects.select_related("placement"), pk=strip_id, mix=mix)
    return render(request, "field/one.html", {**editing(request, mix), **panel(mix, strip)})


def panel(mix: Mix, strip: Strip, scene: Scene | None = None) -> dict[str, Any]:
    """Everything the panel of a source shows."""
    scene = scene or scene_of(mix)
    said = next(one for one in scene.strips if one.id == strip.ref)
    place = said.placement
    address = addresses(mix.pk, strip.pk)
    lanes = place_lanes(scene, strip.ref)
    in_room = place.coordinates == "cube"
    angles, room = said_as(strip.placement, "sphere"), said_as(strip.placement, "cube")
    apart = kept_apart_deg(scene, said) if place.mode == "object" else None
    parts = dict(PARTS, size=_SIZES_IN_ROOM if in_room else PARTS["size"])
    moving = set(lanes) & set(FORMS[place.coordinates][:3])
    return {
        "strip": strip,
        "place": place,
        "in_room": in_room,
        "moves": bool(moving),
        "angles": angles,
        "urls": {name: address(name) for name in (*FORMS["sphere"][:3], "excluded")},
        "room": [(axis, room[axis], words, address(axis)) for axis, words in _AXES.items()],
        "parts": {part: _controls(place, names, lanes) for part, names in parts.items()},
        "address": reverse("field:one", args=[mix.pk, strip.pk]),
        "gain_url": reverse("flow:set", args=[mix.pk, strip.pk, "gain_db"]),
        "zones": [(zone, zone in place.excluded) for zone in ZONES],
        "apart": apart,
        "kept": "room" if other_form(place.coordinates) == "cube" else "angles",
        "other": other_form(place.coordinates),
        "references": REFERENCES.values(),
    }


def _controls(place: Said, names: tuple[str, ...], lanes: dict[str, Any]) -> list[tuple[Control, bool]]:
    """The controls of some settings, each with whether a lane moves it."""
    values = place.model_dump()
    if values["extent_height_deg"] is None:
        values["extent_height_deg"] = values["extent_deg"]
    found = {control.name: control for control in controls_from(SCHEMA, values, 0)}
    return [(_named(found[name]), name in lanes) for name in names]


def _schema() -> dict[str, Any]:
    """The placement's schema, the one number that may be empty told like the others."""
    schema = Said.model_json_schema()
    height = schema["properties"]["extent_height_deg"]
    schema["properties"]["extent_height_deg"] = {**height, **height.pop("anyOf")[0], "default": 0.0}
    return schema


SCHEMA = _schema()


def _named(control: Control) -> Control:
    return replace(control, label=_NAMES.get(control.name, control.label))


def changed(request: HttpRequest, mix: Mix, report: Any = None) -> HttpResponse:
    """After an edit: the list, and what a conversion told."""
    profile = PROFILES.get(request.headers.get("X-Profile", ""), PROFILES["open"])
    return after_edit(request, mix, "field/changed.html", {**placed(mix, profile), "report": report})
