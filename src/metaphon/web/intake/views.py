"""Intake: bring recordings in, see what each is, set it in time."""

import os
from dataclasses import dataclass
from pathlib import Path

from django.core.files.uploadedfile import TemporaryUploadedFile
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import render
from django.views.decorators.http import require_POST

from metaphon.core.document.mix import Track
from metaphon.core.errors import InputError
from metaphon.web.intake.outline import outline_path
from metaphon.web.intake.recordings import kind_of, store, track_of
from metaphon.web.mixes import journal
from metaphon.web.mixes.editing import after_edit, carry_out, editing
from metaphon.web.mixes.models import AudioFile, Mix
from metaphon.web.mixes.permissions import mix_for, require_editor
from metaphon.web.mixes.snapshots import document_of, recordings_of

_TICK_STEPS_S = (1, 2, 5, 10, 30, 60, 300, 600, 1800, 3600, 7200)


def show(request: HttpRequest, mix_id: int) -> HttpResponse:
    """The tracks with their recordings on one time line."""
    mix = mix_for(request, mix_id)
    return render(request, "intake/show.html", {**editing(request, mix), **_table(mix)})


@dataclass(frozen=True)
class ClipShown:
    """A recording on the time line. `path` is what its start is called in a command."""

    audio: AudioFile
    path: str
    kind: str
    start_s: float
    duration_s: float
    outline: str


def _table(mix: Mix) -> dict[str, object]:
    document, recordings = document_of(mix), recordings_of(mix)
    rate_hz = mix.sample_rate_hz
    ends = [
        clip.start_s + recordings[clip.file].frames / rate_hz
        for t in document.tracks
        for clip in t.clips
    ]
    span_s = max(max(ends, default=0.0), 1.0)

    def shown(track: Track) -> list[ClipShown]:
        found = []
        for place, clip in enumerate(track.clips):
            audio = recordings[clip.file]
            duration_s = audio.frames / rate_hz
            outline = outline_path(audio.outline, clip.start_s, clip.start_s + duration_s, span_s)
            found.append(
                ClipShown(
                    audio,
                    f"clips/{place}/start_s",
                    kind_of(audio.channels),
                    clip.start_s,
                    duration_s,
                    outline,
                )
            )
        return found

    step_s = next((s for s in _TICK_STEPS_S if span_s / s <= 12), _TICK_STEPS_S[-1])
    ticks = [
        (round(t / span_s * 1000, 1), round(t / span_s * 100, 2), t)
        for t in range(0, int(span_s) + 1, step_s)
    ]
    rows = [{"track": track, "clips": shown(track)} for track in document.tracks]
    return {"rows": rows, "scale_s": max(60.0, 2 * span_s), "ticks": ticks}


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
    made = journal.apply(mix, request.user, track_of(audio)).after.tracks[-1]
    return JsonResponse(
        {"track": made.name, "kind": kind_of(audio.channels), "notices": audio.notices}
    )


@require_POST
def edit(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Carry out a command; gives the table anew."""
    mix, _ = carry_out(request, mix_id)
    return after_edit(request, mix, "intake/table.html", _table(mix))
