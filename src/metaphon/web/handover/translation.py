"""A mix in every place it will meet: what each makes of it, in figures and by ear."""

import json
from typing import Any

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render

from metaphon.core.document.mix import Mix as Document
from metaphon.core.listen.places import PLACES
from metaphon.core.measure.intelligibility import GOOD, POOR
from metaphon.core.measure.thirds import THIRDS_HZ
from metaphon.web.jobs.models import TranslationReport
from metaphon.web.jobs.surveying import key_of
from metaphon.web.jobs.tasks import ask_for_report
from metaphon.web.mixes.editing import editing
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.permissions import changes_mix, mix_for
from metaphon.web.mixes.snapshots import document_of
from metaphon.web.shell.fragments import fragment_of

_SPEAKING = ("narrat", "voice", "dialog", "speech", "speaker", "comment", "vocal")
_REACH_DB = 24.0  # of the drawing of bands, down; half as far up
_HIGH = 36.0
_WIDE = 196.0


def page(request: HttpRequest, mix: Mix) -> dict[str, object]:
    """What the view shows: the last report, of the strip that was asked for last."""
    last = mix.translation_reports.first()
    document = document_of(mix)
    return _shown(mix, document, last.options["strip"] if last else _likely(document))


def _likely(document: Document) -> str:
    """The strip that has to be understood, as far as names tell."""
    for strip in document.tracks:
        named = any(word in strip.name.lower() for word in _SPEAKING)
        if named and not strip.muted and not strip.resting:
            return strip.id
    return ""


def _shown(mix: Mix, document: Document, strip: str) -> dict[str, object]:
    rows = mix.translation_reports.filter(options={"strip": strip})
    has_sound = any(track.clips and not track.resting for track in document.tracks)
    row, done = rows.first(), rows.filter(status=TranslationReport.Status.DONE).first()
    return {
        "strips": [one for one in document.strips if not one.resting],
        "speech": strip,
        "has_sound": has_sound,
        "silent": not has_sound,
        "row": row,
        "old": done is not None and done.key != key_of(document),
        "from_s": done.figures["from_s"] if done else None,
        "places": _places(document, done.figures["places"] if done else []),
        "zero_y": _HIGH / 3.0,
        "wide": _WIDE,
        "high": _HIGH,
    }


def _places(document: Document, figures: list[dict[str, Any]]) -> list[dict[str, object]]:
    """Every place with what was measured in it, as far as it was."""
    names = {strip.id: strip.name for strip in document.strips}
    measured = {one["place"]: one for one in figures}
    levels = [one["level_db"] for one in figures if one["level_db"] is not None]
    found = []
    for place in PLACES:
        one = measured.get(place.key, {})
        level = one.get("level_db")
        # all as loud as the softest, so that nothing is turned up past full scale
        match_db = round(min(levels) - level, 1) if level is not None else 0.0
        monitor = place.monitor.model_dump(mode="json")
        kept = {name: monitor[name] for name in ("through", "speaker", "binaural")}
        index = one.get("intelligibility")
        found.append(
            {
                "place": place,
                "source": json.dumps({"target": place.target}),
                "through": json.dumps({**kept, "match_db": match_db}),
                "measured": bool(one),
                "level_db": level,
                "bars": _bars(one.get("bands_db", [])),
                "sunk": [
                    (names[each["track"]], -each["less_db"])
                    for each in one.get("sunk", [])
                    if each["track"] in names
                ],
                "index": index,
                "word": _word(index),
            }
        )
    return found


def _word(index: float | None) -> str:
    if index is None:
        return ""
    return "pass" if index >= GOOD else "fail" if index < POOR else "warn"


def _bars(bands_db: list[float | None]) -> list[dict[str, float]]:
    """A bar for each third: what is heard of it against plain stereo."""
    width = _WIDE / len(THIRDS_HZ)
    found = []
    for n, (hertz, level) in enumerate(zip(THIRDS_HZ, bands_db, strict=False)):
        if level is None:
            continue
        ends = sorted(
            _HIGH / 3.0 - max(min(one, _REACH_DB / 2.0), -_REACH_DB) / _REACH_DB * _HIGH / 1.5
            for one in (0.0, level)
        )
        found.append(
            {
                "x": round(n * width, 1),
                "y": round(ends[0], 1),
                "width": round(width - 1.0, 1),
                "height": round(max(ends[1] - ends[0], 0.8), 1),
                "lost": level < 0.0,
                "hertz": float(hertz),
                "level_db": level,
            }
        )
    return found


def _drawn(request: HttpRequest, mix: Mix, strip: str) -> HttpResponse:
    shown = _shown(mix, document_of(mix), strip)
    return render(request, "handover/places.html", {**editing(request, mix), **shown})


@fragment_of("handover:show")
def progress(request: HttpRequest, mix_id: int) -> HttpResponse:
    """A report that is being measured, or has been."""
    return _drawn(request, mix_for(request, mix_id), request.GET.get("strip", ""))


@changes_mix
def measure(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Queue a report, with the strip that has to be understood."""
    mix = mix_for(request, mix_id)
    strip = request.POST.get("strip", "")
    ask_for_report(TranslationReport, mix, request.user.pk, strip)
    return _drawn(request, mix, strip)


@changes_mix
def cancel(request: HttpRequest, mix_id: int, report_id: int) -> HttpResponse:
    """Leave off measuring; what was measured before is shown again."""
    mix = mix_for(request, mix_id)
    row = get_object_or_404(TranslationReport, pk=report_id, mix=mix)
    row.ask_to_stop()
    return _drawn(request, mix, row.options["strip"])
