"""What a person asks for: kept as they choose, by mix, and under names of their own."""

import json
from typing import Any

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from metaphon.core.document.handover import (
    ADM,
    ADM_TITLE,
    OWN_WIDTH,
    Handover,
    StemKind,
    asked,
    draft,
)
from metaphon.core.document.mix import Mix as Document
from metaphon.core.document.targets import FURTHER, OFFERED, Target, target_named
from metaphon.core.engine.fewer_objects import fewer_objects
from metaphon.core.engine.stems import sources_of, stems_of
from metaphon.core.errors import InputError, Vanished
from metaphon.core.measure.loudness_limits import SHIPPED
from metaphon.web.handover.models import Preset, Wish
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.permissions import changes_mix, mix_for
from metaphon.web.mixes.snapshots import document_of
from metaphon.web.shell.fragments import fragment_of
from metaphon.web.shell.posted import number_in

KINDS: dict[StemKind, str] = {
    "tracks": "Tracks",
    "buses": "Buses",
    "placements": "Placed",
    "groups": "Groups",
}
CHOICES: dict[str, tuple[tuple[str, str], ...]] = {
    "container": (("wav", "WAV"), ("flac", "FLAC")),
    "bits": (("24", "24 bit"), ("16", "16 bit"), ("32f", "32 bit float")),
    "rate_hz": (
        ("", "Rate of the mix"),
        ("44100", "44.1 kHz"),
        ("48000", "48 kHz"),
        ("88200", "88.2 kHz"),
        ("96000", "96 kHz"),
        ("176400", "176.4 kHz"),
        ("192000", "192 kHz"),
    ),
    "rooms": (("shared", "With their reverb"), ("apart", "Dry, returns apart")),
    "stem_dynamics": (("shared", "Limited as the mix is"), ("own", "Each limited by itself")),
    "level": (
        ("as_it_is", "As it is"),
        ("gain", "By gain alone"),
        ("limiter", "With a limiter"),
    ),
}
_TYPED = ("loudness_lufs", "tolerance_lu", "ceiling_dbtp", "lead_s", "tail_s", "start_s", "end_s")
_MOST_PRESETS = 40
_NAME = "{title}_r{revision}{stem}_{target}"  # files of two states are told apart


def wish_of(request: HttpRequest, mix: Mix) -> Handover:
    """What this person last asked of a mix, or what they would most likely."""
    row = Wish.objects.filter(mix=mix, user=request.user.pk).first()
    targets = document_of(mix).targets
    try:
        return draft({"targets": targets, "name": _NAME, **(row.asked if row else {})})
    except InputError:  # what was kept fits no more
        return draft({"targets": targets, "name": _NAME})


def posted(request: HttpRequest) -> Handover:
    """What a form asks for. Raises InputError in one sentence for what cannot be."""
    data = request.POST
    stems: dict[str, list[str]] = {}
    for cell in data.getlist("stems"):
        kind, _, target = cell.partition(" ")
        stems.setdefault(kind, []).append(target)
    further = data.get("further", "")
    targets = [*data.getlist("targets"), *([further] if further else [])]
    given: dict[str, Any] = {"targets": targets, "stems": stems}
    given["adm"] = "adm" in data
    given["alternatives"] = data.getlist("alternatives")
    given["objects"] = _counts(data.get("objects", ""))
    given |= {name: data[name] for name in ("name", "head", *CHOICES) if data.get(name)}
    given |= {name: _number(data[name]) for name in _TYPED if data.get(name, "").strip()}
    wanted = draft(given)
    if wanted.head and wanted.head not in dict(heads(request)):
        raise InputError("This head is no longer among yours; choose another.")
    return wanted


def _person(request: HttpRequest) -> int:
    return int(request.user.pk or 0)


def _number(text: str) -> str:
    """A number as people type it: with a comma, another minus, and its unit behind it."""
    return text.strip().replace(",", ".").replace("−", "-").split()[0]


def _counts(text: str) -> list[str]:
    """Several whole numbers as people type them."""
    return [one for one in text.replace(";", ",").replace(" ", ",").split(",") if one]


def heads(request: HttpRequest) -> list[tuple[str, str]]:
    """The heads of one's own that a render for headphones may be for: stored name and title."""
    own = getattr(request.user, "user_files", None)
    return [(row.file.name, row.name) for row in own.filter(kind="head")] if own else []


def form(request: HttpRequest, mix: Mix) -> dict[str, object]:
    """What the form shows."""
    return {
        "asked": wish_of(request, mix),
        "choices": CHOICES,
        "kinds": KINDS,
        "heads": heads(request),
        "loudness_presets": SHIPPED,
        "presets": Preset.objects.filter(user=request.user.pk),
    }


def further(request: HttpRequest, mix: Mix) -> list[Target]:
    """The formats that are no rows of the matrix yet."""
    chosen = {*document_of(mix).targets, *wish_of(request, mix).targets}
    return [target_named(name) for name in FURTHER if name not in chosen]


def matrix(request: HttpRequest, mix: Mix) -> list[dict[str, object]]:
    """The rows of the matrix: every target, whether it is chosen, and its stems."""
    document, wish = document_of(mix), wish_of(request, mix)
    own, chosen = set(document.targets), set(wish.targets)
    names = [*OFFERED, *sorted((own | chosen) - set(OFFERED))]

    def cells(name: str) -> list[tuple[str, str, bool]]:
        return [(kind, title, name in wish.stems.get(kind, ())) for kind, title in KINDS.items()]

    rows: list[dict[str, object]] = [
        {
            "name": name,
            "title": target_named(name).title,
            "target": target_named(name),
            "own": name in own,
            "chosen": name in chosen,
            "alternatives": name in wish.alternatives,
            "cells": cells(name),
        }
        for name in names
    ]
    as_recorded: dict[str, object] = {
        "name": OWN_WIDTH,
        "title": "As wide as recorded",
        "cells": [cell if cell[0] != "placements" else None for cell in cells(OWN_WIDTH)],
    }
    positions: dict[str, object] = {"name": ADM, "title": ADM_TITLE, "adm": True, "on": wish.adm}
    return [*rows, as_recorded, positions]


def counted(wanted: Handover, document: Document) -> int:
    """How many files of sound this would be."""
    found = len(wanted.targets) + wanted.adm + len(set(wanted.objects))
    found += len(wanted.alternatives) * len(document.alternatives.programmes)
    for kind, targets in wanted.stems.items():
        placed = [name for name in targets if name != OWN_WIDTH]
        found += len(placed) * len(stems_of(document, kind, wanted.rooms)) if placed else 0
        found += len(sources_of(document, kind)) if OWN_WIDTH in targets else 0
    return found


@fragment_of("handover:show")
def fewer(request: HttpRequest, mix_id: int) -> HttpResponse:
    """What becomes of each object where there are fewer, to be read and heard."""
    mix = mix_for(request, mix_id)
    document = document_of(mix)
    counts = asked({"adm": True, "objects": _counts(request.GET.get("objects", ""))}).objects
    names = {strip.id: strip.name for strip in document.strips}
    found = [(count, fewer_objects(document, count)) for count in counts]
    told = [
        (
            count,
            one.before,
            [(names[each.strip], each) for each in one.objects],
            json.dumps({"objects": count}),
        )
        for count, one in found
    ]
    return render(request, "handover/fewer.html", {"told": told})


@changes_mix
def keep(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Remember what is chosen, and say how many files it would be."""
    mix = mix_for(request, mix_id)
    document = document_of(mix)
    wanted = posted(request)
    _keep(request, mix, wanted)
    response = render(request, "handover/count.html", {"files": counted(wanted, document)})
    if request.POST.get("further"):  # it is a row of the matrix now
        response["HX-Trigger"] = json.dumps({"mix-changed": True})
    return response


def _keep(request: HttpRequest, mix: Mix, wanted: Handover) -> None:
    told = wanted.model_dump(mode="json")
    Wish.objects.update_or_create(mix=mix, user_id=_person(request), defaults={"asked": told})


@changes_mix
def preset(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Keep what is chosen under a name, take up what was kept, or forget it."""
    mix = mix_for(request, mix_id)
    own = Preset.objects.filter(user=request.user.pk)
    if "forget" in request.POST:
        own.filter(pk=number_in(request.POST["forget"]) or 0).delete()
    elif "take" in request.POST:
        row = own.filter(pk=number_in(request.POST["take"]) or 0).first()
        if row is None:
            raise Vanished("This preset is no longer there; choose another.")
        _keep(request, mix, draft(row.asked))
    else:
        name = request.POST.get("preset", "").strip()[:80]
        if not name:
            raise InputError("A preset needs a name; type one.")
        if own.exclude(name=name).count() >= _MOST_PRESETS:
            raise InputError(f"You keep {_MOST_PRESETS} presets already; forget one first.")
        wanted = posted(request)
        told = wanted.model_dump(mode="json", exclude={"head"})
        Preset.objects.update_or_create(
            user_id=_person(request), name=name, defaults={"asked": told}
        )
    response = HttpResponse(status=204)
    response["HX-Refresh"] = "true"
    return response
