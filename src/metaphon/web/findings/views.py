"""Findings: what the checks noticed, always in view, and the one press that mends it."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_POST

from metaphon.core.checks.finding import Finding
from metaphon.core.checks.rules import RULES, mend
from metaphon.core.errors import InputError
from metaphon.web.jobs.surveying import findings_of
from metaphon.web.jobs.tasks import ask_for_survey
from metaphon.web.mixes.editing import carry_out, editing
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.permissions import can_edit, mix_for
from metaphon.web.mixes.snapshots import document_of

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
        strips = {strip.id: strip for strip in document_of(mix).strips}
    except InputError:
        found, fresh, strips = [], True, {}
    if not fresh:
        ask_for_survey(mix)
    rows = [
        (finding, strips[finding.subject], RULES[finding.rule])
        for finding in sorted(found, key=lambda finding: _ORDER[finding.severity])
        if finding.subject in strips
    ]
    grave = any(finding.severity == "problem" for finding, _, _ in rows)
    return {
        "mix": mix,
        "findings": rows,
        "fresh": fresh,
        "grave": grave,
        "can_edit": can_edit(mix, request.user),
    }


@require_POST
def mend_one(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Take one finding's fault away, as one step that can be undone."""
    mix = mix_for(request, mix_id)
    found, _ = findings_of(mix)
    finding = next((one for one in found if _is(one, request)), None)
    if finding is None:
        raise InputError("This is no longer found; the list is drawn anew.")
    mix, _ = carry_out(request, mix_id, mend(document_of(mix), finding))
    response = render(
        request, "findings/mended.html", {**_shown(request, mix), **editing(request, mix)}
    )
    response["HX-Trigger"] = "mix-edited, mix-changed"
    return response


def _is(finding: Finding, request: HttpRequest) -> bool:
    wanted = (request.POST.get("rule"), request.POST.get("subject"), request.POST.get("other", ""))
    return (finding.rule, finding.subject, finding.other) == wanted
