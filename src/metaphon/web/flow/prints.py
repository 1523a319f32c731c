"""Printing from Flow: starting it and watching it."""

from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render

from metaphon.core.document.part import LATEST_S
from metaphon.core.edits.command import strip_of
from metaphon.core.edits.typed_values import read_number
from metaphon.core.engine.strip_width import doubles_only
from metaphon.core.errors import InputError
from metaphon.web.jobs.models import Print
from metaphon.web.jobs.tasks import print_strips
from metaphon.web.mixes.editing import editing, ids_in
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.permissions import changes_mix, mix_for
from metaphon.web.mixes.snapshots import document_of
from metaphon.web.shell.fragments import fragment_of
from metaphon.web.shell.posted import number_in


@changes_mix
def start(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Queue a print of the chosen strips, or of a span of them."""
    mix = mix_for(request, mix_id)
    strips = [strip_of(document_of(mix), strip_id).id for strip_id in ids_in(request)]
    if not strips:
        raise InputError("Nothing is chosen to print; tick some tracks first.")
    start_text, end_text = (
        request.POST.get("start_s", "").strip(),
        request.POST.get("end_s", "").strip(),
    )
    start_s = read_number(start_text, "The start", 0.0, LATEST_S, "s") if start_text else 0.0
    end_s = read_number(end_text, "The end", 0.0, LATEST_S, "s") if end_text else None
    if end_s is not None and end_s <= start_s:
        raise InputError("The end lies before the start; type a later end.")
    # so that the print begins on a sample of the mix
    start_s = round(start_s * mix.sample_rate_hz) / mix.sample_rate_hz
    options = {"strips": strips, "start_s": start_s, "end_s": end_s, "rest": "rest" in request.POST}
    doubler = number_in(request.POST.get("doubler", ""))
    if doubler is not None:
        doubles_only(document_of(mix), strips[0], doubler)  # refuses what is none
        options |= {"strips": strips[:1], "doubler": doubler}
    with transaction.atomic():
        row = Print.objects.create(mix=mix, user_id=request.user.pk, options=options)
        print_strips.defer(print_id=row.pk)
    return _shown(request, mix, row)


def _shown(request: HttpRequest, mix: Mix, row: Print) -> HttpResponse:
    return render(request, "flow/print.html", {"row": row, **editing(request, mix)})


@fragment_of("flow:show")
def progress(request: HttpRequest, mix_id: int, print_id: int) -> HttpResponse:
    mix = mix_for(request, mix_id)
    row = get_object_or_404(Print, pk=print_id, mix=mix)
    response = _shown(request, mix, row)
    if row.status == Print.Status.DONE:
        response["HX-Trigger"] = "mix-edited, mix-changed"
    return response


@changes_mix
def cancel(request: HttpRequest, mix_id: int, print_id: int) -> HttpResponse:
    mix = mix_for(request, mix_id)
    row = get_object_or_404(Print, pk=print_id, mix=mix)
    row.ask_to_stop()
    return _shown(request, mix, row)
