"""Recordings sent in pieces: a connection that breaks is gone on with where it broke off.

The protocol is tus 1.0.0 (tus.io), with its extensions for creation and termination.
"""

import base64
import tempfile
import uuid
from functools import wraps
from pathlib import Path, PurePath
from typing import Any

from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.urls import reverse
from django.views.decorators.http import require_http_methods, require_POST

from metaphon.core.errors import InputError
from metaphon.web.intake.models import LARGEST_BYTES, Arrival
from metaphon.web.intake.tasks import check_arrival
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.permissions import mix_for, require_editor
from metaphon.web.mixes.space import require_space, reserving
from metaphon.web.shell.bodies import takes
from metaphon.web.shell.fragments import View, fragment_of
from metaphon.web.shell.posted import number_in
from metaphon.web.storage import scratch

_PROTOCOL = "1.0.0"
_PIECE = 1 << 20


def _by_protocol(view: View) -> View:
    @wraps(view)
    def answered(request: HttpRequest, mix_id: int, **rest: Any) -> HttpResponse:
        if request.headers.get("Tus-Resumable") != _PROTOCOL:
            response = HttpResponse(status=412)
            response["Tus-Version"] = _PROTOCOL
            return response
        mix = mix_for(request, mix_id)
        require_editor(mix, request.user)
        try:
            response = view(request, mix, **rest)
        except InputError as error:
            response = HttpResponse(str(error), status=422, content_type="text/plain")
        response["Tus-Resumable"] = _PROTOCOL
        return response

    return answered


@require_POST
@_by_protocol
def create(request: HttpRequest, mix: Mix) -> HttpResponse:
    """Announce a recording: its length and its name; answers with the address to send it to."""
    length = number_in(request.headers.get("Upload-Length", "")) or 0
    if not 1 <= length <= LARGEST_BYTES:
        raise InputError("This file is empty, or larger than a recording can be; choose another.")
    with reserving():
        require_space(mix, length)
        arrival = Arrival.objects.create(
            mix=mix,
            user_id=int(request.user.pk or 0),
            key=uuid.uuid4(),
            name=_name_in(request.headers.get("Upload-Metadata", "")),
            length=length,
        )
    response = HttpResponse(status=201)
    response["Location"] = reverse("intake:arrival", args=[mix.pk, arrival.key])
    return response


def _name_in(metadata: str) -> str:
    """The file's own name out of pairs of words and base64, without its folders."""
    pairs = dict(pair.strip().partition(" ")[::2] for pair in metadata.split(","))
    try:
        name = base64.b64decode(pairs.get("filename", ""), validate=True).decode()
    except ValueError:
        name = ""
    shown = "".join(letter if letter.isprintable() else " " for letter in name)
    return PurePath(shown.replace("\\", "/")).name[-255:] or "recording"


@takes(9)  # a piece of 8, and what goes with it
@require_http_methods(["HEAD", "PATCH", "DELETE"])
@_by_protocol
def arrival(request: HttpRequest, mix: Mix, key: uuid.UUID) -> HttpResponse:
    """Say how much has arrived (HEAD), take the next piece (PATCH), or forget it (DELETE)."""
    with transaction.atomic():
        rows = Arrival.objects.select_for_update()
        row = get_object_or_404(rows, mix=mix, user=request.user.pk, key=key)
        if request.method == "DELETE":
            row.forget()
            return HttpResponse(status=204)
        response = HttpResponse()
        if request.method == "PATCH":
            follows = row.is_open and request.headers.get("Upload-Offset") == str(row.offset)
            response.status_code = 204 if follows else 409
            if follows:
                _take(request, row)
        response["Upload-Offset"] = str(row.offset)
        response["Upload-Length"] = str(row.length)
        response["Cache-Control"] = "no-store"
    return response


def _take(request: HttpRequest, row: Arrival) -> None:
    if request.content_type != "application/offset+octet-stream":
        raise InputError("This is not a piece of a recording; send it again.")
    with tempfile.NamedTemporaryFile(dir=scratch()) as file:
        left = row.length - row.offset
        while left and (piece := request.read(min(_PIECE, left))):
            file.write(piece)
            left -= len(piece)
        file.flush()
        row.take(Path(file.name))
        row.offset = row.length - left
    if row.offset == row.length:
        row.status = Arrival.Status.CHECKING
        check_arrival.defer(arrival_id=row.pk)
    row.save(update_fields=["offset", "status"])


@fragment_of("intake:show")
def show(request: HttpRequest, mix_id: int) -> HttpResponse:
    """What of this person's is on its way into the mix, and what became of it."""
    mix = mix_for(request, mix_id)
    return render(request, "intake/arrivals.html", {"mix": mix, **arriving(request, mix)})


def arriving(request: HttpRequest, mix: Mix) -> dict[str, object]:
    """The arrivals that are shown, and a figure that grows with each that is there."""
    theirs = Arrival.objects.filter(mix=mix, user=request.user.pk)
    rows = theirs.exclude(status=Arrival.Status.DONE, message="")  # the time line shows those
    return {
        "arrivals": rows,
        "waits": theirs.filter(status=Arrival.Status.CHECKING).exists(),
        "arrived": theirs.filter(status=Arrival.Status.DONE).count(),
    }


@require_POST
def retry(request: HttpRequest, mix_id: int, key: uuid.UUID) -> HttpResponse:
    """Check a recording again that was refused, but not for what it holds."""
    mix = mix_for(request, mix_id)
    require_editor(mix, request.user)
    with transaction.atomic():
        row = get_object_or_404(Arrival, mix=mix, user=request.user.pk, key=key)
        if not row.can_be_retried:
            raise InputError(f"{row.name} is not here any more; send it again.")
        row.status, row.message, row.progress = Arrival.Status.CHECKING, "", 0.0
        row.save(update_fields=["status", "message", "progress"])
        check_arrival.defer(arrival_id=row.pk)
    return render(request, "intake/arrivals.html", {"mix": mix, **arriving(request, mix)})


@require_POST
def dismiss(request: HttpRequest, mix_id: int, key: uuid.UUID) -> HttpResponse:
    """Take a refusal or a remark out of sight, or give up what is on its way."""
    mix = mix_for(request, mix_id)
    get_object_or_404(Arrival, mix=mix, user=request.user.pk, key=key).forget()
    return render(request, "intake/arrivals.html", {"mix": mix, **arriving(request, mix)})
