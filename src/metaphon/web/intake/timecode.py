"""Timecode in Intake: a track of it made, and read from what was recorded beside a sound."""

import json
import tempfile
from pathlib import Path

from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404

from metaphon.core.edits.registry import Batch
from metaphon.core.edits.structure import AddTrack
from metaphon.core.edits.values import SetValue
from metaphon.core.engine.plan import length_frames
from metaphon.core.errors import InputError
from metaphon.core.files.timecode_track import timecode_in, write_timecode
from metaphon.core.measure.timecode import RATES, read_timecode
from metaphon.web.mixes.editing import carry_out
from metaphon.web.mixes.models import AudioFile
from metaphon.web.mixes.permissions import changes_mix, mix_for
from metaphon.web.mixes.recordings import store
from metaphon.web.mixes.snapshots import document_of, local_path

_SHORTEST_S = 60.0


@changes_mix
def add(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Make a track of timecode as long as the mix, at rest."""
    mix = mix_for(request, mix_id)
    rate = RATES.get(request.POST.get("rate", ""))
    if rate is None:
        raise InputError("Choose the frame rate from the list.")
    start = read_timecode(request.POST.get("start", ""), rate)
    document = document_of(mix)
    try:
        length_s = max(length_frames(document) / mix.sample_rate_hz, _SHORTEST_S)
    except InputError:  # nothing to hear yet
        length_s = _SHORTEST_S
    name = f"Timecode {rate.title}"
    with tempfile.TemporaryDirectory(dir=settings.FILE_UPLOAD_TEMP_DIR) as folder:
        path = Path(folder) / f"{name}.wav"
        write_timecode(path, start, rate, length_s, mix.sample_rate_hz)
        audio = store(mix, path, path.name)
    track = AddTrack(name=name, file=local_path(audio), mode="bed")
    made = track.apply(document).tracks[-1].id
    rest = SetValue(strips=(made,), path="resting", value=True)
    carry_out(request, mix_id, Batch(commands=(track, rest)))
    return _said(
        f"{name} from {start.told(rate.drops)} is a track now, at rest: wake it to hear it."
    )


@changes_mix
def read(request: HttpRequest, mix_id: int, audio_id: int) -> HttpResponse:
    """Look for timecode in a recording; what it tells becomes the recording's time reference."""
    audio = get_object_or_404(AudioFile, pk=audio_id, mix=mix_for(request, mix_id))
    found = timecode_in(local_path(audio))
    if found is None:
        raise InputError(f"There is no timecode in {audio.name}; choose the clip that recorded it.")
    audio.time_reference_s = found.offset_s
    audio.save(update_fields=["time_reference_s"])
    jumps = f", with {found.broken} jumps" if found.broken else ", unbroken"
    return _said(
        f"Timecode at {found.rate.title}: {found.first.told(found.rate.drops)} at "
        f"{found.at_s:.3f} s{jumps}. It is the time reference of {audio.name} now."
    )


def _said(message: str) -> HttpResponse:
    response = HttpResponse(status=204)
    response["HX-Trigger"] = json.dumps(
        {"mix-edited": True, "mix-changed": True, "say": {"message": message}}
    )
    return response
