"""Field: what is placed where, on one whole-sphere chart and in perspective."""

import json
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from metaphon.core.document.channel_mapping import angles_used
from metaphon.core.document.delivery_changes import changes
from metaphon.core.document.mix import PROGRAMME, Placement, Strip
from metaphon.core.document.mix import Mix as Document
from metaphon.core.document.mix_layout import layout_of_mix
from metaphon.core.document.positions import FORMS, kept_apart_deg, other_form, place_lanes
from metaphon.core.document.target_omissions import by_the_book_of_targets, in_no_target
from metaphon.core.document.targets import target_named
from metaphon.core.edits.command import strip_of
from metaphon.core.edits.position_forms import Conversion, Convert
from metaphon.core.edits.structure import AddTarget
from metaphon.core.edits.values import position_of
from metaphon.core.errors import InputError
from metaphon.core.spatial.chart import graticule
from metaphon.core.spatial.layouts import LAYOUTS, OWN, Layout, layout_named, own_layout
from metaphon.core.spatial.panning import vector_pan
from metaphon.core.spatial.room_cube import REFERENCES
from metaphon.core.spatial.zones import ZONES
from metaphon.web.field.deliveries import offered
from metaphon.web.field.drawing import (
    ORDERS,
    WAYS,
    WEIGHTINGS,
    Judged,
    beds,
    compared,
    loudspeakers,
    source,
    truth,
)
from metaphon.web.field.folding import folding
from metaphon.web.mixes.editing import after_edit, carry_out, command_from, editing
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.permissions import changes_mix, mix_for
from metaphon.web.mixes.snapshots import channels_of_strips, document_of
from metaphon.web.shell.controls import Control, controls_from
from metaphon.web.shell.fragments import fragment_of

# the settings of a placement that are drawn as controls, by part of the panel
PARTS: dict[str, tuple[str, ...]] = {
    "size": (
        "extent_deg",
        "extent_height_deg",
        "extent_depth",
        "pair_deg",
        "divergence",
        "divergence_range_deg",
        "diffuseness",
    ),
    "away": ("level_db_per_doubling", "air", "travel", "sends_too", "sphere_m"),
    "room": (
        "reflections",
        "reflections_db",
        "room_width_m",
        "room_depth_m",
        "room_height_m",
        "room_absorption",
    ),
    "rules": ("importance", "snap", "on_sphere", "locked"),
    "turn": ("azimuth_deg", "elevation_deg", "roll_deg"),
    "decoding": ("decoder", "weighting"),
}
_SIZES_IN_ROOM = (
    "extent_x",
    "extent_y",
    "extent_z",
    "pair_deg",
    "divergence",
    "divergence_range_deg",
    "diffuseness",
)
_NAMES = {
    "extent_deg": "Width",
    "extent_height_deg": "Height",
    "extent_depth": "Depth",
    "extent_x": "Width",
    "extent_y": "Depth",
    "extent_z": "Height",
    "pair_deg": "Pair apart",
    "divergence_range_deg": "Divergence reach",
    "travel": "Delay, Doppler",
    "level_db_per_doubling": "Level, per doubling",
    "sphere_m": "Distance 1 is",
    "sends_too": "Sends too",
    "roll_deg": "Roll",
    "reflections": "First reflections",
    "reflections_db": "Their level",
    "room_width_m": "Width of the room",
    "room_depth_m": "Depth of the room",
    "room_height_m": "Height of the room",
    "room_absorption": "Walls take",
    "snap": "Nearest loudspeaker",
    "on_sphere": "Stay on the sphere",
    "air": "Air absorption",
    "weighting": "Weights",
    "elevation_deg": "Tilt",
    "azimuth_deg": "Turn",
}
_ANGLES = {"azimuth_deg": "Azimuth", "elevation_deg": "Elevation", "distance": "Distance"}
_AXES = {"x": "Right", "y": "Front", "z": "Up"}


@dataclass(frozen=True)
class Shown:
    """A row of the list."""

    strip: Strip
    number: int
    data: dict[str, Any]
    changes: list[str]
    angles: tuple[str, ...]  # that say where it stands

    @property
    def key(self) -> tuple[Any, ...]:
        """All that a drawing of the row depends on."""
        data = self.data
        return (
            self.strip.id,
            self.strip.name,
            self.strip.colour,
            self.strip.muted,
            self.number,
            tuple(self.changes),
            self.angles,
            data["mode"],
            data["layout"],
            data["locked"],
            data["azimuth_deg"],
            data["elevation_deg"],
        )


def show(request: HttpRequest, mix_id: int) -> HttpResponse:
    mix = mix_for(request, mix_id)
    document = document_of(mix)
    layout = _layout(document, request.GET.get("layout", ""))
    judged = Judged.asked(request.GET)
    deliveries = offered(request, document.delivery)
    speakers = loudspeakers(layout)
    context = {
        **editing(request, mix),
        **placed(mix, document),
        "delivery": next(one for one in deliveries if one.limits == document.delivery),
        "deliveries": deliveries,
        "query": request.GET.urlencode(),
        "view": "space" if request.GET.get("view") == "space" else "chart",
        "layout": layout,
        "layouts": [*_own(document), *(row for row in LAYOUTS.values() if row.channels > 1)],
        "graticule": graticule(),
        "loudspeakers": speakers,
        "vectors": json.dumps(
            [{"label": one["label"], "vector": one["vector"]} for one in speakers]
        ),
        "ways": WAYS,
        "orders": ORDERS,
        "weightings": WEIGHTINGS,
        "judged": judged,
        "tiles": truth(layout, judged.panner) if judged.way else [],
        "compared": compared(layout, judged.panner) if judged.way else [],
        "beds": [row for row in LAYOUTS.values() if row.channels > 1],
        "references": REFERENCES.values(),
    }
    return render(request, "field/show.html", context)


def _own(document: Document) -> list[Layout]:
    return [layout_named(name) for name in document.targets if name.startswith(OWN)]


def _layout(document: Document, wanted: str) -> Layout:
    own = [*_own(document), layout_named(layout_of_mix(document))][0]
    try:
        return layout_named(wanted) if wanted else own
    except InputError:
        return own


def placed(mix: Mix, document: Document) -> dict[str, Any]:
    """The strips that enter the programme, objects first.

    What their delivery will change, and what targets leave out.
    """
    changed_by = changes(document, document.delivery)
    strips = [strip for strip in document.strips if strip.output == PROGRAMME and not strip.resting]
    entering = [strip for strip in strips if strip.placement.mode != "none"]
    entering.sort(key=lambda strip: strip.placement.mode != "object")
    channels = channels_of_strips(mix, document)
    buses = {bus.id: bus for bus in document.buses}
    rows = []
    for number, strip in enumerate(entering, start=1):
        data = source(strip, document) | {"number": number}
        angles = angles_used(strip, channels.get(strip.id, 0), buses)
        rows.append(Shown(strip, number, data, changed_by.get(strip.id, []), angles))
    notes = by_the_book_of_targets(document, channels)
    return {
        "rows": rows,
        "objects": json.dumps([row.data for row in rows]),
        "bed_places": json.dumps(beds(document)),
        "groups": sorted({str(row.data["group"]) for row in rows} - {""}),
        "aside": [strip for strip in strips if strip.placement.mode == "none"],
        "losses": in_no_target(document, channels),
        **folding(document),
        "by_the_book": [
            (target_named(name), " ".join(said)) for name, said in notes.items() if said
        ],
    }


@fragment_of("field:show")
def one(request: HttpRequest, mix_id: int, strip_id: str) -> HttpResponse:
    """The placement of one strip by numbers, its position said in both ways."""
    mix = mix_for(request, mix_id)
    document = document_of(mix)
    context = {**editing(request, mix), **panel(document, strip_of(document, strip_id))}
    return render(request, "field/one.html", context)


def panel(document: Document, strip: Strip) -> dict[str, Any]:
    """Everything the panel of a source shows."""
    place = strip.placement
    lanes = place_lanes(document, strip.id)
    in_room = place.coordinates == "cube"
    where = position_of(strip)
    parts = dict(PARTS, size=_SIZES_IN_ROOM if in_room else PARTS["size"])
    return {
        "strip": strip,
        "place": place,
        "in_room": in_room,
        "moves": bool(set(lanes) & set(FORMS[place.coordinates][:3])),
        "angles": [(name, where[name], words) for name, words in _ANGLES.items()],
        "room": [(axis, where[axis], words) for axis, words in _AXES.items()],
        "parts": {part: _controls(place, names) for part, names in parts.items()},
        "zones": [(zone, zone in place.excluded) for zone in ZONES],
        "apart": kept_apart_deg(document, strip) if place.mode == "object" else None,
        "kept": "room" if other_form(place.coordinates) == "cube" else "angles",
        "references": REFERENCES.values(),
    }


def _controls(place: Placement, names: tuple[str, ...]) -> list[Control]:
    """The controls of some settings."""
    values = place.model_dump()
    if values["extent_height_deg"] is None:
        values["extent_height_deg"] = values["extent_deg"]
    found = {control.name: control for control in controls_from(SCHEMA, values, 0, "placement")}
    return [_named(found[name]) for name in names]


def _schema() -> dict[str, Any]:
    """The placement's schema, the one number that may be empty told like the others."""
    schema = Placement.model_json_schema()
    height = schema["properties"]["extent_height_deg"]
    schema["properties"]["extent_height_deg"] = {**height, **height.pop("anyOf")[0], "default": 0.0}
    return schema


SCHEMA = _schema()


def _named(control: Control) -> Control:
    return replace(control, label=_NAMES.get(control.name, control.label))


@changes_mix
def edit(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Carry out a command; gives the list anew, and what a conversion did to each source."""
    command = command_from(request, mix_for(request, mix_id))
    mix, applied = carry_out(request, mix_id, command)
    return changed(
        request, mix, command.report(applied.before) if isinstance(command, Convert) else []
    )


@changes_mix
def add_layout(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Make a loudspeaker layout of one's own from a table, and render the mix to it too."""
    layout = own_layout(request.POST.get("title", ""), request.POST.get("table", ""))
    vector_pan(0.0, 0.0, layout)  # refuses what cannot be panned on
    mix, _ = carry_out(request, mix_id, AddTarget(name=layout.name))
    response = changed(request, mix)
    response["HX-Trigger"] = json.dumps({"mix-edited": True, "mix-changed": True})
    return response


def changed(request: HttpRequest, mix: Mix, report: Sequence[Conversion] = ()) -> HttpResponse:
    """After an edit: the list, and what a conversion did."""
    context = {**placed(mix, document_of(mix)), "report": report}
    return after_edit(request, mix, "field/changed.html", context)
