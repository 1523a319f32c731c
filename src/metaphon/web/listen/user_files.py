"""Presets, heads, headphones and references: brought, listed, let go."""

import json
import os
import uuid
from pathlib import Path

from django.core.files.uploadedfile import TemporaryUploadedFile
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_POST
from pydantic import ValidationError

from metaphon.core.errors import InputError
from metaphon.core.files.apart import read_apart
from metaphon.core.listen.headphones import try_response
from metaphon.core.listen.monitor import Monitor
from metaphon.core.spatial.head import try_head
from metaphon.core.spatial.layouts import layout_for_channels
from metaphon.web.jobs.results import as_recording, result_of
from metaphon.web.listen.models import Preset, Reference, UserFile
from metaphon.web.listen.monitor_source import monitor_of
from metaphon.web.mixes.models import discard
from metaphon.web.mixes.permissions import changes_mix, mix_for
from metaphon.web.mixes.recordings import keep, store
from metaphon.web.mixes.space import require_own_space, reserving
from metaphon.web.shell.bodies import takes
from metaphon.web.shell.posted import data_in


def _drawn_anew() -> HttpResponse:
    response = HttpResponse()
    response["HX-Trigger"] = json.dumps({"mix-changed": True})
    return response


@require_POST
def keep_preset(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Keep monitor settings under a name; the same name again replaces them."""
    mix_for(request, mix_id)
    name = request.POST.get("name", "").strip()[:120]
    if not name:
        raise InputError("A preset needs a name; type one.")
    try:
        monitor = data_in(request.POST.get("monitor", ""))
        Monitor.model_validate(monitor_of(monitor, request.user))
    except (ValueError, ValidationError):
        raise InputError("These settings cannot be kept; load the page again.") from None
    Preset.objects.update_or_create(
        user_id=int(request.user.pk or 0), name=name, defaults={"monitor": monitor}
    )
    return _drawn_anew()


@require_POST
def forget_preset(request: HttpRequest, mix_id: int, preset_id: int) -> HttpResponse:
    mix_for(request, mix_id)
    get_object_or_404(Preset, pk=preset_id, user=request.user.pk).delete()
    return _drawn_anew()


def _arrived(request: HttpRequest) -> tuple[Path, str]:
    file = request.FILES.get("file")
    if not isinstance(file, TemporaryUploadedFile):
        raise InputError("No file arrived; choose it again.")
    return Path(file.temporary_file_path()), os.path.basename(file.name or "file")[:200]


@takes(64)
@require_POST
def bring(request: HttpRequest, mix_id: int, kind: str) -> HttpResponse:
    """Take in a measured head or the response of headphones.

    Once it has been read and found sound.
    """
    mix = mix_for(request, mix_id)
    path, name = _arrived(request)
    if kind not in UserFile.Kind.values:
        raise InputError("Bring a measured head or a headphone response.")
    suffix = ".sofa" if kind == UserFile.Kind.HEAD or name.lower().endswith(".sofa") else ".csv"
    checked = path.with_suffix(suffix)
    path.rename(checked)
    try:
        if kind == UserFile.Kind.HEAD:
            read_apart(try_head, checked, mix.sample_rate_hz, path=checked, name=name)
        else:
            read_apart(try_response, checked, path=checked, name=name)
    except InputError as error:
        raise InputError(str(error).replace(checked.name, name)) from None
    finally:
        checked.rename(path)
    length = path.stat().st_size
    row = UserFile(user_id=int(request.user.pk or 0), kind=kind, name=name, bytes=length)
    with reserving():
        require_own_space(request.user, length)
        keep(row.file, f"{uuid.uuid4().hex}{suffix}", path)
        row.save()
    return JsonResponse({"key": f"own:{row.pk}", "name": name})


@require_POST
def forget_file(request: HttpRequest, mix_id: int, file_id: int) -> HttpResponse:
    mix_for(request, mix_id)
    row = get_object_or_404(UserFile, pk=file_id, user=request.user.pk)
    row.delete()
    discard(row.file)
    return _drawn_anew()


@takes(1024)
@changes_mix
def bring_reference(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Take in a recording to compare the mix with; it becomes no track."""
    mix = mix_for(request, mix_id)
    path, name = _arrived(request)
    audio = store(mix, path, name)
    try:
        layout_for_channels(audio.channels)
    except InputError:
        discard(*audio.stored)
        audio.delete()
        raise
    row = Reference.objects.create(mix=mix, audio=audio)
    return JsonResponse({"source": f"reference {row.pk}", "name": name, "notices": audio.notices})


@changes_mix
def refer(request: HttpRequest, mix_id: int, file_id: int) -> HttpResponse:
    """Make a result of a render a reference that the mix is compared with."""
    mix = mix_for(request, mix_id)
    file = result_of(mix, file_id)
    Reference.objects.create(mix=mix, audio=as_recording(file))
    response = HttpResponse(status=204)
    said = f"{file.title} is a reference now; choose it in Listen."
    response["HX-Trigger"] = json.dumps({"mix-changed": True, "say": {"message": said}})
    return response


@changes_mix
def forget_reference(request: HttpRequest, mix_id: int, reference_id: int) -> HttpResponse:
    mix = mix_for(request, mix_id)
    row = get_object_or_404(Reference, pk=reference_id, mix=mix)
    audio = row.audio
    row.delete()
    audio.delete()
    discard(*audio.stored)
    return _drawn_anew()
