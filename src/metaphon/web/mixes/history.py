"""The history of a mix: its states named, returned to, and listed with who made them."""

import json
from typing import Any

from django.db.models import QuerySet
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render

from metaphon.core.edits.structure import Restore
from metaphon.web.mixes import journal
from metaphon.web.mixes.editing import editing
from metaphon.web.mixes.models import JournalEntry, Mix
from metaphon.web.mixes.permissions import changes_mix, mix_for
from metaphon.web.mixes.snapshots import document_at
from metaphon.web.shell.fragments import fragment_of
from metaphon.web.shell.posted import number_in

_SHOWN = 60


@fragment_of("open_mix")
def show(request: HttpRequest, mix_id: int) -> HttpResponse:
    """The last states, and every one that has a name; or those before a revision, to follow."""
    mix = mix_for(request, mix_id)
    before = number_in(request.GET.get("before", ""))
    if before is None:
        return render(request, "mixes/history.html", _shown(request, mix))
    context = {**editing(request, mix), **_stretch(mix, min(before, mix.revision + 1))}
    return render(request, "mixes/states.html", context)


def _shown(request: HttpRequest, mix: Mix) -> dict[str, object]:
    stretch = _stretch(mix, mix.revision + 1)
    named = mix.journal.exclude(name="").filter(revision__lt=stretch["oldest"])
    return {**editing(request, mix), **stretch, "named": _with_people(named)}


def _stretch(mix: Mix, before: int) -> dict[str, Any]:
    """The states next before a revision, and the oldest of them."""
    entries = list(_with_people(mix.journal.filter(revision__lt=before))[:_SHOWN])
    return {"entries": entries, "oldest": entries[-1].revision if entries else 1}


def _with_people(entries: QuerySet[JournalEntry]) -> QuerySet[JournalEntry]:
    return entries.defer("changes").select_related("user")


@changes_mix
def name(request: HttpRequest, mix_id: int, revision: int) -> HttpResponse:
    """Give a state a name, or take its name away with an empty one."""
    mix = mix_for(request, mix_id)
    entry = get_object_or_404(JournalEntry, mix=mix, revision=revision)
    entry.name = request.POST.get("name", "").strip()[:120]
    entry.save(update_fields=["name"])
    return render(request, "mixes/history.html", _shown(request, mix))


@changes_mix
def go_back(request: HttpRequest, mix_id: int, revision: int) -> HttpResponse:
    """Make the mix what it was at a revision (0: before the first change), as one step."""
    mix = mix_for(request, mix_id)
    entry = mix.journal.filter(revision=revision).first()
    called = (entry.name or entry.what) if entry else "the beginning"
    command = Restore(mix=document_at(mix, revision), words=f"Went back to: {called}"[:200])
    applied = journal.apply(mix, request.user, command)
    response = render(request, "mixes/history.html", {**_shown(request, mix), "with_buttons": True})
    response["HX-Trigger"] = json.dumps(
        {"say": {"message": applied.what}, "mix-changed": True, "mix-edited": True}
    )
    return response
