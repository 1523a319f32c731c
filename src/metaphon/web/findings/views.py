"""Findings: what the checks noticed, always in view, and the one press that mends it."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_POST

from metaphon.core.checks.finding import Finding
from metaphon.core.checks.rules import ABOUT, mended
from metaphon.core.errors import InputError
from metaphon.web.jobs.surveying import findings_of
from metaphon.web.jobs.tasks import ask_for_survey
from metaphon.web.mixes import journal
from metaphon.web.mixes.assemble import scene_of, write_changes
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.permissions import can_edit, mix_for
from metaphon.web.mixes.views import seen
from metaphon.web.shell.context import editing

_ORDER = {"problem": 0, "warning": 1, "note": 2}


def show(request: HttpRequest, mix_id: int) -> HttpResponse:
    """The count and the list; asks for the mix to be listened to where its sound has changed."""
    mix = mix_for(request, mix_id)
    shown = _shown(request, mix)
    response = render(request, "findings/list.html", shown)
    if shown["fresh"] and "waited" in request.GET:
        response["HX-Trigger"] = "survey-changed"  # levels are known now
    return response


def _shown(request: HttpRequest, mix: Mix) -> dict[str, object]:
    try:
        found, fresh = findings_of(mix)
    except InputError:
        found, fresh = [], True
    if not fresh:
        ask_for_survey(mix)
    names = {strip.ref: strip for strip in mix.strips.all()}
    rows = [
        (finding, names[finding.subject], ABOUT[finding.rule])
        for finding in sorted(found, key=lambda finding: _ORDER[finding.severity])
        if finding.subject in names
    ]
    grave = any(finding.severity == "problem" for finding, _, _ in rows)
    return {"mix": mix, "findings": rows, "fresh": fresh, "grave": grave, "can_edit": can_edit(mix, request.user)}


@require_POST
def mend(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Take one finding's fault away, as one step that can be undone."""
    mix = mix_for(request, mix_id)
    found, _ = findings_of(mix)
    finding = next((one for one in found if _is(one, request)), None)
    if finding is None:
        raise InputError("This is no longer found; the list is drawn anew.")
    before = scene_of(mix)
    after = mended(before, finding)
    name = next(strip.name for strip in before.strips if strip.id == finding.subject)
    with journal.edit(mix, request.user, f"{name}: {ABOUT[finding.rule].mend_label.lower()}", seen(request)):
        write_changes(mix, before, after)
    response = render(request, "findings/mended.html", {**_shown(request, mix), **editing(request, mix)})
    response["HX-Trigger"] = "mix-edited, mix-changed"
    return response


def _is(finding: Finding, request: HttpRequest) -> bool:
    wanted = (request.POST.get("rule"), request.POST.get("subject"), request.POST.get("other", ""))
    return (finding.rule, finding.subject, finding.other) == wanted
