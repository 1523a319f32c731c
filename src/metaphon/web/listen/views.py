"""Listen.

What can be heard, the workspace with its meters and monitors, and the drawing of headphone
corrections.
"""

import json
from typing import Any

import numpy as np
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import render
from django.urls import reverse
from django.views.decorators.http import require_POST
from pydantic import ValidationError

from metaphon.core.document.handover import ADM
from metaphon.core.document.mix_layout import layout_of_mix
from metaphon.core.document.start_time import start_s
from metaphon.core.document.targets import OFFERED, target_named
from metaphon.core.engine.plan import length_frames
from metaphon.core.errors import InputError
from metaphon.core.listen.device import head_for
from metaphon.core.listen.headphones import (
    correction_taps,
    filter_response_db,
    read_response,
    wanted_change_db,
)
from metaphon.core.listen.loudspeakers import made_up
from metaphon.core.listen.monitor import Correction, LoudspeakerSet, Monitor
from metaphon.core.listen.practice_room import calibrated
from metaphon.core.measure.thirds import MIDDLES_HZ
from metaphon.core.spatial.chart import graticule, on_chart
from metaphon.core.spatial.interaural import interaural
from metaphon.core.spatial.layouts import LAYOUTS
from metaphon.web.jobs.models import Render, RenderFile
from metaphon.web.listen.models import Preset, UserFile
from metaphon.web.listen.monitor_source import SHIPPED, headphone_file, monitor_of, reference_layout
from metaphon.web.mixes.editing import editing
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.permissions import mix_for
from metaphon.web.mixes.snapshots import document_of
from metaphon.web.shell.fragments import fragment_of
from metaphon.web.shell.posted import data_in, object_in
from metaphon.web.shell.workspaces import workspace_named
from metaphon.web.together.remarks import places

VIEWS = workspace_named("listen").views
CHECKS = (
    ("mono", "Mono", "1"),
    ("side", "Side", "2"),
    ("left_only", "Left", "3"),
    ("right_only", "Right", "4"),
    ("swapped", "Swap", "5"),
    ("right_inverted", "ø right", "6"),
)
_FREQUENCIES_HZ = np.geomspace(20.0, 20000.0, 160)
_AZIMUTHS_DEG = np.linspace(180.0, -180.0, 73)
_STATES_SHOWN = 40


def show(request: HttpRequest, mix_id: int) -> HttpResponse:
    mix = mix_for(request, mix_id)
    view = request.GET.get("view", "meters")
    context = {
        **editing(request, mix),
        "views": VIEWS,
        "checks": CHECKS,
        "view": view if view in dict(VIEWS) else "meters",
        "targets": [target_named(name) for name in _targets(mix)],
        "strips": [strip for strip in document_of(mix).strips if not strip.resting],
        "presets": list(Preset.objects.filter(user=request.user.pk)),
        "states": mix.journal.select_related("user")[:_STATES_SHOWN],
        "references": mix.references.select_related("audio"),
        "heads": _own(request, UserFile.Kind.HEAD),
        "own_headphones": _own(request, UserFile.Kind.HEADPHONES),
        "shipped": [(key, name) for key, name in SHIPPED.items()],
        "layouts": [layout for layout in LAYOUTS.values() if layout.channels > 1],
        "bands_hz": json.dumps(MIDDLES_HZ.tolist()),
        "chart": _sphere(),
    }
    return render(request, "listen/show.html", context)


def _own(request: HttpRequest, kind: str) -> list[UserFile]:
    return list(UserFile.objects.filter(user=request.user.pk, kind=kind))


def _targets(mix: Mix) -> list[str]:
    """The mix's own targets first, then whatever else may be heard."""
    own = document_of(mix).targets
    return [*own, *(name for name in OFFERED if name not in own)]


def _sphere() -> dict[str, Any]:
    """The whole-sphere chart, and where the loudspeakers of every layout lie on it."""
    layouts = {
        layout.name: [
            {"label": label, "x": round(float(x), 3), "y": round(float(y), 3)}
            for label, low, (x, y) in zip(
                layout.labels, layout.is_lfe, on_chart(*np.array(layout.angles_deg).T), strict=True
            )
            if not low
        ]
        for layout in LAYOUTS.values()
    }
    return {"paths": graticule(), "layouts": json.dumps(layouts)}


def sources(request: HttpRequest, mix_id: int) -> JsonResponse:
    """What can be heard: targets, tracks and buses alone, references, finished results.

    How long the mix is.
    """
    mix = mix_for(request, mix_id)
    document = document_of(mix)
    try:
        frames = length_frames(document)
    except InputError:
        frames = 0
    strips = [strip for strip in document.strips if not strip.resting]
    results = _newest(mix)
    targets = [
        {"title": target_named(name).title, "monitor_source": {"target": name}}
        for name in _targets(mix)
    ]
    alone = [
        {"title": s.name, "monitor_source": {"what": "alone", "strip": s.id, "target": "0+2+0"}}
        for s in strips
    ]
    references = [
        {
            "title": row.audio.name,
            "monitor_source": {
                "source": f"reference {row.pk}",
                "target": reference_layout(row.audio),
            },
        }
        for row in mix.references.select_related("audio")
    ]
    done = [
        {
            "title": file.title,
            "monitor_source": {
                "source": f"render {file.pk}",
                "target": "0+2+0" if file.target == "binaural" else file.target,
            },
        }
        for file in results
    ]
    groups = (
        ("The mix", targets),
        ("Alone", alone),
        ("References", references),
        ("Rendered", done),
    )
    return JsonResponse(
        {
            "frames": frames,
            "groups": [{"title": title, "items": items} for title, items in groups if items],
            "labels": {
                name: target_named(name).channel_labels for name in (*_targets(mix), *LAYOUTS)
            },
            "strips": {
                s.id: {
                    "name": s.name,
                    "address": f"{reverse('flow:show', args=[mix.pk])}?strip={s.id}",
                }
                for s in strips
            },
            "history": {file.target: file.history for file in results if file.is_mix},
            "alternatives": {one.id: one.name for one in document.alternatives.programmes},
            "own_layout": layout_of_mix(document),
            "starts_s": start_s(document),
            "frame_rate": document.frame_rate,
            "markers": [one.model_dump() for one in document.markers],
            "remarks": places(mix),
        }
    )


def _newest(mix: Mix) -> list[RenderFile]:
    """The newest result of every target and stem, whole mixes first."""
    files = RenderFile.objects.filter(
        render__mix=mix, render__status=Render.Status.DONE, kind="audio"
    ).exclude(target=ADM)
    newest = {file.key: file for file in files.select_related("render").order_by("pk")}
    return sorted(newest.values(), key=lambda file: (file.stem, -file.render_id, file.pk))


@fragment_of("listen:show")
def headphones(request: HttpRequest, mix_id: int) -> HttpResponse:
    """A correction drawn.

    The response before, what is done, and the response after, of both sides.
    """
    mix = mix_for(request, mix_id)
    try:
        wanted = object_in(request.GET.get("correction", "{}"))
        wanted["response"] = headphone_file(str(wanted.get("response", "")), request.user)
        wanted["target"] = (
            headphone_file(str(wanted["target"]), request.user) if wanted.get("target") else None
        )
        correction = Correction.model_validate(wanted)
    except (ValueError, ValidationError):
        raise InputError("This correction cannot be drawn; choose headphones first.") from None
    before = read_response(correction.response).at(_FREQUENCIES_HZ)
    done = filter_response_db(
        correction_taps(correction, mix.sample_rate_hz), _FREQUENCIES_HZ, mix.sample_rate_hz
    )
    after = before + done
    asked = wanted_change_db(correction, _FREQUENCIES_HZ)
    target = (
        read_response(correction.target).at(_FREQUENCIES_HZ)
        if correction.target
        else np.zeros_like(before)
    )
    middle = (_FREQUENCIES_HZ >= 100.0) & (_FREQUENCIES_HZ <= 10000.0)
    left_over = float(np.abs(after - target)[:, middle].max())
    context = {
        "curves": [
            ("before", [_curve(side) for side in before]),
            ("done", [_curve(side) for side in done]),
            ("after", [_curve(side) for side in after]),
        ],
        "boost_db": float(asked.max()),
        "left_over_db": left_over,
    }
    return render(request, "listen/response.html", context)


def _curve(level_db: np.ndarray) -> str:
    x = np.linspace(0.0, 600.0, len(level_db))
    return "M" + " ".join(
        f"{a:.1f} {b:.1f}" for a, b in zip(x, np.clip(100.0 - level_db * 6.0, -5, 205), strict=True)
    )


@fragment_of("listen:show")
def head(request: HttpRequest, mix_id: int) -> HttpResponse:
    """What the ears of the chosen head differ by, drawn over the azimuth at the ears' level."""
    mix = mix_for(request, mix_id)
    try:
        given = data_in(request.GET.get("binaural", "{}"))
        monitor = monitor_of({"binaural": given}, request.user)
        chosen = Monitor.model_validate(monitor).binaural
    except (ValueError, TypeError, ValidationError):
        raise InputError("This head cannot be drawn; choose another.") from None
    found = interaural(head_for(chosen, mix.sample_rate_hz), _AZIMUTHS_DEG)
    context = {
        "time": _around(found.time_ms * 50.0),
        "level": _around(found.level_db * 2.0),
        "most_ms": float(found.time_ms.max()),
        "most_db": float(found.level_db.max()),
    }
    return render(request, "listen/head.html", context)


def _around(heights: np.ndarray) -> str:
    """A path over the azimuths, 400 wide: the left at the left, 1 ms or 25 dB are 50 high."""
    x = 200.0 - _AZIMUTHS_DEG / 0.9
    y = 55.0 - np.clip(heights, -52.0, 52.0)
    return "M" + " ".join(f"{a:.1f} {b:.1f}" for a, b in zip(x, y, strict=True))


@require_POST
def calibrate(request: HttpRequest, mix_id: int) -> JsonResponse:
    """Measure the simulated room with the loudspeakers as they are set, and give the settings that
    mend it.
    """
    mix = mix_for(request, mix_id)
    try:
        chosen = LoudspeakerSet.model_validate(data_in(request.POST.get("loudspeakers", "{}")))
    except (ValueError, ValidationError):
        raise InputError("These loudspeakers cannot be measured; choose a layout first.") from None
    mended, told = calibrated(chosen, mix.sample_rate_hz)
    delays, gains = made_up(mended).T
    return JsonResponse(
        {
            "loudspeakers": mended.model_dump(),
            "told": told or ["Everything is wired and timed as it should be."],
            "delays_ms": [round(float(d) * 1000, 2) for d in delays],
            "gains_db": [round(float(20 * np.log10(abs(g))), 1) for g in gains],
        }
    )
