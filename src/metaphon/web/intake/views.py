"""Intake: bring recordings in, see what each is, set it in time."""

import os
from pathlib import Path

from django.core.files.uploadedfile import TemporaryUploadedFile
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_POST

from metaphon.core.errors import InputError
from metaphon.web.intake.outline import outline_path
from metaphon.web.intake.recordings import kind_of, store, track_for
from metaphon.web.mixes import journal
from metaphon.web.mixes.models import Clip, Mix, Strip
from metaphon.web.mixes.numbers import parse_number
from metaphon.web.mixes.permissions import mix_for, require_editor
from metaphon.web.mixes.views import after_edit, seen
from metaphon.web.shell.context import editing


def show(request: HttpRequest, mix_id: int) -> HttpResponse:
    mix = mix_for(request, mix_id)
    return render(request, "intake/show.html", {**editing(request, mix), **_table(mix)})


def _table(mix: Mix) -> dict[str, object]:
    """The tracks with their clips drawn on one time line."""
    tracks = list(mix.strips.filter(kind=Strip.Kind.TRACK).prefetch_related("clips__audio"))
    end_s = max((clip_end(clip, mix) for track in tracks for clip in track.clips.all()), default=0.0)
    span_s = max(end_s, 1.0)
    rows = []
    for track in tracks:
        clips = [
            {
                "row": clip,
                "kind": kind_of(clip.audio.channels),
                "duration_s": clip.audio.frames / mix.sample_rate_hz,
                "path": outline_path(clip.audio.outline, clip.start_s, clip_end(clip, mix), span_s),
            }
            for clip in track.clips.all()
        ]
        rows.append({"track": track, "clips": clips})
    step_s = next(s for s in (1, 2, 5, 10, 30, 60, 300, 600, 1800, 3600, 7200) if span_s / s <= 12)
    ticks = [(round(t / span_s * 1000, 1), round(t / span_s * 100, 2), t) for t in range(0, int(span_s) + 1, step_s)]
    return {"rows": rows, "scale_s": max(60.0, 2 * span_s), "ticks": ticks}


def clip_end(clip: Clip, mix: Mix) -> float:
    return clip.start_s + clip.audio.frames / mix.sample_rate_hz


@require_POST
def upload(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Take one recording in; answers with what was done, or one sentence why not."""
    mix = mix_for(request, mix_id)
    require_editor(mix, request.user)
    upload = request.FILES.get("recording")
    if not isinstance(upload, TemporaryUploadedFile):
        return JsonResponse({"message": "No file arrived; choose it again."}, status=422)
    name = os.path.basename(upload.name or "recording")
    try:
        audio = store(mix, Path(upload.temporary_file_path()), name)
    except InputError as error:
        return JsonResponse({"message": str(error)}, status=422)
    with journal.edit(mix, request.user, f"Brought in {name}"[:255]):
        track = track_for(mix, audio)
    return JsonResponse({"track": track.name, "kind": kind_of(audio.channels), "notices": audio.notices})


@require_POST
def set_start(request: HttpRequest, mix_id: int, clip_id: int) -> HttpResponse:
    mix = mix_for(request, mix_id)
    clip = get_object_or_404(Clip, pk=clip_id, track__mix=mix)
    start_s = parse_number(request.POST.get("start_s", ""), "The start", 0.0, 86400.0, "s")
    with journal.edit(mix, request.user, f"{clip.track.name} starts at {start_s:.2f} s", seen(request)):
        Clip.objects.filter(pk=clip.pk).update(start_s=start_s)
    return after_edit(request, mix, "intake/table.html", _table(mix))


@require_POST
def remove(request: HttpRequest, mix_id: int, strip_id: int) -> HttpResponse:
    """Take a track out of the mix; its recording stays in storage, so that undo brings it back."""
    mix = mix_for(request, mix_id)
    track = get_object_or_404(Strip, pk=strip_id, mix=mix, kind=Strip.Kind.TRACK)
    with journal.edit(mix, request.user, f"Removed {track.name}", seen(request)):
        mix.automation.filter(target__startswith=f"{track.ref}/").delete()
        track.delete()
    return after_edit(request, mix, "intake/table.html", _table(mix))
