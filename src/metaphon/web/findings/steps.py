"""What is found gone through one by one: heard, seen, mended, or passed over; left at any step.

For who is new it is a first lesson: on the demo it is five mends.
"""

import json
from dataclasses import dataclass
from urllib.parse import urlencode

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.urls import reverse
from django.views.decorators.http import require_POST

from metaphon.core.checks.rules import mend
from metaphon.core.errors import InputError
from metaphon.web.findings.rows import Row, rows_of
from metaphon.web.jobs.surveying import Found, findings_of
from metaphon.web.mixes.editing import carry_out, editing
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.permissions import can_edit, changes_mix, mix_for
from metaphon.web.mixes.snapshots import document_of
from metaphon.web.shell.fragments import fragment_of
from metaphon.web.shell.posted import number_in

_MOST = 5
_KEPT = "steps"  # in the session: the mix, what was gone through, what is shown, what was done
# where a fault is seen best; Flow where nothing else is said
_IN_PAIRS = ("opposed_polarity", "late", "same_recording")
_IN_WIDTH = ("too_wide",)
_HEARD_IN_MONO = ("too_wide", "opposed_polarity", "late")
_UNHEARD = ("feeds_nothing", "in_no_target", "bus_without_input", "send_into_muted")


@dataclass(frozen=True)
class Step:
    """One finding with what leads to it: where it is seen, and what lets it be heard."""

    row: Row
    seen_at: str
    seen_in: str
    heard: str  # what to set of what is heard, as JSON; empty where there is nothing to hear
    through: str
    in_mono: bool


def _step(mix: Mix, row: Row) -> Step:
    one = row.finding
    if one.rule in _IN_PAIRS:
        place, words, asked = (
            "coherence:show",
            "Coherence",
            {"first": one.subject, "other": one.other},
        )
    elif one.rule in _IN_WIDTH:
        place, words = "coherence:show", "Coherence"
        asked = {"view": "width", "strip": one.subject}
    else:
        place, words, asked = "flow:show", "Flow", {"strip": one.subject}
    in_mono = one.rule in _HEARD_IN_MONO
    heard = {"what": "mix"} if one.rule in _IN_PAIRS else {"what": "stem", "strip": one.subject}
    return Step(
        row,
        f"{reverse(place, args=[mix.pk])}?{urlencode(asked)}",
        words,
        "" if one.rule in _UNHEARD else json.dumps(heard),
        json.dumps({"checks": {"mono": True} if in_mono else {}}),
        in_mono,
    )


@fragment_of("open_mix")
def show(request: HttpRequest, mix_id: int) -> HttpResponse:
    """The step that somebody is at; nothing where they go through nothing."""
    return _drawn(request, mix_for(request, mix_id))


def _drawn(request: HttpRequest, mix: Mix) -> HttpResponse:
    kept = request.session.get(_KEPT)
    context = {**editing(request, mix), "walk": False}
    if kept and kept["mix"] == mix.pk:
        found = findings_of(mix)
        left = _left(mix, found, kept["passed"])
        ends = len(kept["passed"]) >= _MOST
        row = None if ends or kept["done"] else _at(left, kept["key"])
        if row and row.key != kept["key"]:
            kept["key"] = row.key
            request.session[_KEPT] = kept
        context |= {
            "walk": True,
            "step": _step(mix, row) if row else None,
            "done": kept["done"],
            "waits": not found.fresh and not ends,
            "number": min(len(kept["passed"]) + 1, _MOST),
            "of": min(len(kept["passed"]) + len(left) + bool(kept["done"]), _MOST),
        }
    return render(request, "findings/steps.html", context)


def _left(mix: Mix, found: Found, passed: list[str]) -> list[Row]:
    """What a single press mends and nobody leaves, without what was gone through."""
    rows = rows_of(mix, document_of(mix), found)
    return [row for row in rows if row.rule.mends and not row.reason and row.key not in passed]


def _at(left: list[Row], key: str) -> Row | None:
    """The one that was shown, as long as it is found, or the gravest."""
    return next((row for row in left if row.key == key), left[0] if left else None)


@require_POST
def begin(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Begin with the gravest of what a single press mends; five at most are gone through."""
    mix = mix_for(request, mix_id)
    if not can_edit(mix, request.user) or not _left(mix, findings_of(mix), []):
        raise InputError("There is nothing here that you can mend with one press.")
    request.session[_KEPT] = {"mix": mix.pk, "passed": [], "key": "", "done": ""}
    return _drawn(request, mix)


@require_POST
def go_on(request: HttpRequest, mix_id: int) -> HttpResponse:
    """On to the next, whether this one was mended or is passed over."""
    mix, kept = mix_for(request, mix_id), request.session.get(_KEPT)
    if kept and kept["mix"] == mix.pk and kept["key"]:
        passed = [*kept["passed"], kept["key"]]
        request.session[_KEPT] = {**kept, "passed": passed, "key": "", "done": ""}
    return _drawn(request, mix)


@require_POST
def leave(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Go through no more; what was mended stays mended."""
    mix = mix_for(request, mix_id)
    request.session.pop(_KEPT, None)
    return _drawn(request, mix)


@changes_mix
def mend_it(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Take the fault of the step away, as one step of the history that can be undone."""
    mix, kept = mix_for(request, mix_id), request.session.get(_KEPT)
    if not kept or kept["mix"] != mix.pk:
        raise InputError("You go through nothing now; begin again under Findings.")
    left = _left(mix, findings_of(mix), kept["passed"])
    row = next((one for one in left if one.key == kept["key"]), None)
    if row is None:
        raise InputError("This is no longer found; go on to the next.")
    way = number_in(request.POST.get("way", "")) or 0
    mix, applied = carry_out(request, mix_id, mend(document_of(mix), row.finding, way))
    request.session[_KEPT] = {**kept, "done": applied.what}
    response = _drawn(request, mix)
    response["HX-Trigger"] = "mix-edited, mix-changed"
    return response
