"""Findings: what the checks noticed, always in view, and the one press that mends it."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from metaphon.core.checks.finding import Finding
from metaphon.core.checks.rules import mend
from metaphon.core.errors import InputError
from metaphon.web.findings.rows import key_of, rows_of
from metaphon.web.jobs.surveying import Found, findings_of
from metaphon.web.jobs.tasks import ask_for_survey
from metaphon.web.mixes.editing import carry_out, editing
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.permissions import changes_mix, mix_for
from metaphon.web.mixes.snapshots import document_of
from metaphon.web.shell.fragments import fragment_of
from metaphon.web.shell.posted import number_in


@fragment_of("open_mix")
def show(request: HttpRequest, mix_id: int) -> HttpResponse:
    """The count and the list; asks for the mix to be listened to where its sound has changed."""
    mix = mix_for(request, mix_id)
    shown = _shown(request, mix, request.GET.getlist("mended"))
    response = render(request, "findings/show.html", shown)
    if shown["fresh"] and "waited" in request.GET:
        response["HX-Trigger"] = "survey-changed"  # levels are known now
    return response


def _shown(request: HttpRequest, mix: Mix, mended: list[str]) -> dict[str, object]:
    """What the list shows; what was mended since the mix was last listened to is left out."""
    empty = True
    try:
        found = findings_of(mix)
        document = document_of(mix)
        empty = not any(track.clips for track in document.tracks)
        rows = rows_of(mix, document, found)
        if not found.fresh:
            rows = [row for row in rows if row.key not in mended]
    except InputError:
        found, rows = Found([], True, True), []
    if not found.fresh:
        ask_for_survey(mix)
    return {
        **editing(request, mix),
        "rows": rows,
        "fresh": found.fresh,
        "listened": found.listened,
        "empty": empty,
        "count": sum(not row.reason for row in rows),
        "said": _said(sum(not row.reason for row in rows), found, empty),
        "grave": any(row.finding.severity == "problem" and not row.reason for row in rows),
    }


def _said(count: int, found: Found, empty: bool) -> str:
    """The state of the findings in a few words."""
    counted = f"{count} finding{'' if count == 1 else 's'}" if count else "Findings"
    if empty and not count:
        return f"{counted}, nothing to listen to yet"
    if not found.fresh:
        return f"{counted}, {'listening again' if found.listened else 'not listened to yet'}"
    return counted if count else "Findings, nothing wrong"


@changes_mix
def leave(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Leave a finding, with a reason that every report then gives; without one take it up again."""
    mix = mix_for(request, mix_id)
    named = {name: request.POST.get(name, "")[:64] for name in ("rule", "subject", "other")}
    held = mix.left_findings.filter(**named)
    if "again" in request.POST:
        held.delete()
    else:
        reason = request.POST.get("reason", "").strip()[:300]
        if not reason:
            raise InputError("Say why it may stay; the report gives the reason.")
        if tuple(named.values()) not in {key_of(one) for one in findings_of(mix).findings}:
            raise InputError("This is no longer found; the list is drawn anew.")
        held.delete()
        mix.left_findings.create(**named, reason=reason, user_id=request.user.pk)
    return render(
        request, "findings/show.html", _shown(request, mix, request.POST.getlist("mended"))
    )


@changes_mix
def mend_one(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Take one finding's fault away, as one step that can be undone; says what became of it."""
    mix = mix_for(request, mix_id)
    rows = rows_of(mix, document_of(mix), findings_of(mix))
    place = next((n for n, row in enumerate(rows) if _is(row.finding, request)), None)
    if place is None:
        raise InputError("This is no longer found; the list is drawn anew.")
    way = number_in(request.POST.get("way", "")) or 0
    command = mend(document_of(mix), rows[place].finding, way)
    mix, applied = carry_out(request, mix_id, command)
    keys = [*request.POST.getlist("mended"), rows[place].key]
    mended = {
        "finding": rows[place].finding,
        "done": applied.what,
        "place": sum(row.key not in keys for row in rows[:place]),
        "keys": keys,
    }
    shown = {**_shown(request, mix, keys), "mended": mended, "oob": True}
    response = render(request, "findings/mended.html", shown)
    response["HX-Trigger"] = "mix-edited, mix-changed"
    return response


def _is(finding: Finding, request: HttpRequest) -> bool:
    wanted = (request.POST.get("rule"), request.POST.get("subject"), request.POST.get("other", ""))
    return (finding.rule, finding.subject, finding.other) == wanted
