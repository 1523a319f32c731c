"""Intake: bring recordings in, see what each is, set it in time."""

import json

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.urls import reverse
from django.views.decorators.cache import cache_control

from metaphon.core.edits.command import strip_of
from metaphon.core.edits.markers import marker_of
from metaphon.core.errors import InputError
from metaphon.core.files.audio import READ
from metaphon.core.files.waveform import tile
from metaphon.web.intake.arrivals import arriving
from metaphon.web.intake.timeline import timeline
from metaphon.web.mixes.editing import after_edit, carry_out, editing
from metaphon.web.mixes.making import of_definition
from metaphon.web.mixes.models import AudioFile
from metaphon.web.mixes.permissions import changes_mix, mix_for
from metaphon.web.mixes.recordings import draw
from metaphon.web.mixes.snapshots import document_of
from metaphon.web.mixes.stored_files import local_path
from metaphon.web.shell.fragments import fragment_of
from metaphon.web.shell.posted import number_in

_MOST_ZOOM = 24


def show(request: HttpRequest, mix_id: int) -> HttpResponse:
    """The tracks with their recordings on one time line."""
    mix = mix_for(request, mix_id)
    context = {**editing(request, mix), **timeline(mix), **arriving(request, mix)}
    return render(request, "intake/show.html", {**context, "read": READ})


@fragment_of("intake:show")
def clip(request: HttpRequest, mix_id: int, strip_id: str, place: int) -> HttpResponse:
    """The chosen clip by numbers."""
    mix = mix_for(request, mix_id)
    strip_of(document_of(mix), strip_id)
    context = {**editing(request, mix), **timeline(mix, strip_id, place)}
    return render(request, "intake/clip.html", context)


@fragment_of("intake:show")
def marker(request: HttpRequest, mix_id: int, marker_id: str) -> HttpResponse:
    """The chosen marker by name and time."""
    mix = mix_for(request, mix_id)
    marker_of(document_of(mix), marker_id)
    context = {**editing(request, mix), **timeline(mix, marker_id=marker_id)}
    return render(request, "intake/marker.html", context)


@changes_mix
def open_definition(request: HttpRequest, mix_id: int, audio_id: int) -> HttpResponse:
    """Make a mix of a recording that says what its channels are, and go there."""
    audio = get_object_or_404(AudioFile, pk=audio_id, mix=mix_for(request, mix_id))
    made, notes = of_definition(request, audio)
    response = HttpResponse(status=204)
    address = reverse("field:show", args=[made.pk])
    if not notes:
        response["HX-Redirect"] = address
        return response
    said = f"{made.title} is made. Not all could be taken over: {' '.join(notes)}"
    link = {"words": "Open it", "address": address}
    response["HX-Trigger"] = json.dumps({"say": {"message": said, "link": link}})
    return response


@cache_control(private=True, max_age=31536000, immutable=True)
def peaks(
    request: HttpRequest, mix_id: int, audio_id: int, exponent: int, number: int
) -> HttpResponse:
    """A part of the drawing of a recording: pairs of 16-bit numbers, lowest and highest.

    Each stands for 2 to the exponent frames.
    """
    mix = mix_for(request, mix_id)
    audio = get_object_or_404(AudioFile, pk=audio_id, mix=mix)
    if exponent > _MOST_ZOOM:
        raise InputError("There is no drawing that coarse; zoom in.")
    found = tile(local_path(audio), draw(audio), exponent, number)
    return HttpResponse(found.astype("<i2").tobytes(), content_type="application/octet-stream")


@changes_mix
def edit(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Carry out a command; gives the time line anew."""
    mix, _ = carry_out(request, mix_id)
    place, _, strip_id = request.headers.get("X-Clip", "").partition(" ")
    marker_id = request.headers.get("X-Marker", "")
    shown = timeline(mix, strip_id, number_in(place) or 0, marker_id)
    return after_edit(request, mix, "intake/timeline.html", shown)
