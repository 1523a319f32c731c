"""Printing from Flow: starting it, watching it, and going back to the original."""

from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_POST

from metaphon.core.errors import InputError
from metaphon.web.flow.edits import strip_of
from metaphon.web.flow.views import changed
from metaphon.web.jobs.tasks import print_strips
from metaphon.web.mixes import journal
from metaphon.web.mixes.models import Mix, Print, Strip
from metaphon.web.mixes.numbers import parse_number
from metaphon.web.mixes.permissions import mix_for, require_editor
from metaphon.web.mixes.views import ids_in, seen
from metaphon.web.shell.context import editing


@require_POST
def start(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Queue a print of the chosen strips, or of a span of them."""
    mix = mix_for(request, mix_id)
    require_editor(mix, request.user)
    strips = list(mix.strips.filter(pk__in=ids_in(request)))
    if not strips:
        raise InputError("Nothing is chosen to print; tick some tracks first.")
    start_text, end_text = request.POST.get("start_s", "").strip(), request.POST.get("end_s", "").strip()
    start_s = parse_number(start_text, "The start", 0.0, 86400.0, "s") if start_text else 0.0
    end_s = parse_number(end_text, "The end", 0.0, 86400.0, "s") if end_text else None
    if end_s is not None and end_s <= start_s:
        raise InputError("The end lies before the start; type a later end.")
    # so that the print begins on a sample of the mix
    start_s = round(start_s * mix.sample_rate_hz) / mix.sample_rate_hz
    options = {"ids": [s.pk for s in strips], "start_s": start_s, "end_s": end_s, "rest": "rest" in request.POST}
    with transaction.atomic():
        row = Print.objects.create(mix=mix, user_id=request.user.pk, options=options)
        print_strips.defer(print_id=row.pk)
    return _shown(request, mix, row)


def _shown(request: HttpRequest, mix: Mix, row: Print) -> HttpResponse:
    return render(request, "flow/print.html", {"row": row, **editing(request, mix)})


def progress(request: HttpRequest, mix_id: int, print_id: int) -> HttpResponse:
    mix = mix_for(request, mix_id)
    row = get_object_or_404(Print, pk=print_id, mix=mix)
    response = _shown(request, mix, row)
    if row.status == Print.Status.DONE:
        response["HX-Trigger"] = "mix-edited, mix-changed"
    return response


@require_POST
def cancel(request: HttpRequest, mix_id: int, print_id: int) -> HttpResponse:
    mix = mix_for(request, mix_id)
    require_editor(mix, request.user)
    row = get_object_or_404(Print, pk=print_id, mix=mix)
    if not mix.prints.filter(pk=row.pk, status=Print.Status.WAITING).update(status=Print.Status.CANCELLED):
        mix.prints.filter(pk=row.pk, status=Print.Status.RUNNING).update(status=Print.Status.CANCELLING)
    row.refresh_from_db()
    return _shown(request, mix, row)


@require_POST
def wake(request: HttpRequest, mix_id: int, strip_id: int) -> HttpResponse:
    """Wake a strip and rest what stands in for it: its prints, or for a print its original and other takes."""
    mix = mix_for(request, mix_id)
    strip = strip_of(mix, strip_id)
    with journal.edit(mix, request.user, f"Woke {strip.name}", seen(request)):
        original = strip.print_of_id or strip.pk
        mix.strips.filter(print_of=original).exclude(pk=strip.pk).update(resting=True, soloed=False)
        if original != strip.pk:
            mix.strips.filter(pk=original).update(resting=True, soloed=False)
        Strip.objects.filter(pk=strip.pk).update(resting=False)
    return changed(request, mix, None)
