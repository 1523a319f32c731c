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
from metaphon.core.files.timecode_track import timecode_in, write_recorder_take, write_timecode
from metaphon.core.measure.timecode import (
    RATES,
    Found,
    FrameRate,
    Timecode,
    frames_ahead,
    read_timecode,
    seconds_of,
)
from metaphon.web.mixes.editing import carry_out
from metaphon.web.mixes.models import AudioFile, Clip, Mix
from metaphon.web.mixes.permissions import changes_mix, mix_for
from metaphon.web.mixes.recordings import store
from metaphon.web.mixes.snapshots import document_of, local_path
from metaphon.web.shell.posted import number_in

_SHORTEST_S = 60.0
MOST_FRAMES = 5000
_EVEN_FRAMES = 0.05


@changes_mix
def add(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Make a track of timecode as long as the mix, at rest."""
    mix = mix_for(request, mix_id)
    rate, start = _asked(request)
    name = f"Timecode {rate.title}"
    with tempfile.TemporaryDirectory(dir=settings.FILE_UPLOAD_TEMP_DIR) as folder:
        path = Path(folder) / f"{name}.wav"
        write_timecode(path, start, rate, _length_s(mix), mix.sample_rate_hz)
        audio = store(mix, path, path.name)
    audio.time_reference_s = seconds_of(start, rate)
    audio.save(update_fields=["time_reference_s"])
    _bring(request, mix, name, audio)
    return _said(
        f"{name} from {start.told(rate.drops)} is a track now, at rest: wake it to hear it."
    )


@changes_mix
def record(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Let the simulated recorder take the mix up, its clock out by some frames: to practise on."""
    mix = mix_for(request, mix_id)
    rate, start = _asked(request)
    text = request.POST.get("frames", "").strip().replace("\u2212", "-")
    ahead = number_in(text.removeprefix("-"))
    if ahead is None or ahead > MOST_FRAMES:
        raise InputError(f"The recorder can be out by up to {MOST_FRAMES} frames; type how many.")
    ahead = -ahead if text.startswith("-") else ahead
    name = "Recorder"
    with tempfile.TemporaryDirectory(dir=settings.FILE_UPLOAD_TEMP_DIR) as folder:
        path = Path(folder) / f"{name}.wav"
        write_recorder_take(path, start, rate, _length_s(mix), mix.sample_rate_hz, ahead)
        audio = store(mix, path, path.name)
    _bring(request, mix, name, audio)
    return _said(
        "What the recorder took up is a track now, at rest: choose its clip and read its timecode."
    )


def _asked(request: HttpRequest) -> tuple[FrameRate, Timecode]:
    rate = RATES.get(request.POST.get("rate", ""))
    if rate is None:
        raise InputError("Choose the frame rate from the list.")
    return rate, read_timecode(request.POST.get("start", ""), rate)


def _length_s(mix: Mix) -> float:
    try:
        return max(length_frames(document_of(mix)) / mix.sample_rate_hz, _SHORTEST_S)
    except InputError:  # nothing to hear yet
        return _SHORTEST_S


def _bring(request: HttpRequest, mix: Mix, name: str, audio: AudioFile) -> None:
    """A recording as a track, at rest."""
    track = AddTrack(name=name, file=local_path(audio), mode="bed")
    made = track.apply(document_of(mix)).tracks[-1].id
    rest = SetValue(strips=(made,), path="resting", value=True)
    carry_out(request, mix.pk, Batch(commands=(track, rest)))


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
    if not found.is_sure:
        jumps += "; it is too short to tell a rate from one a thousandth slower"
    return _said(
        f"Timecode at {found.rate.title}: {found.first.told(found.rate.drops)} at "
        f"{found.at_s:.3f} s{jumps}. {_against_the_mix(audio, found)}"
        f"It is the time reference of {audio.name} now."
    )


def _against_the_mix(audio: AudioFile, found: Found) -> str:
    """How far a recording's timecode is off from that of the mix, where it has a track of it."""
    clips = Clip.objects.filter(track__mix=audio.mix_id).select_related("audio", "track")
    own = next((clip for clip in clips if clip.audio_id == audio.pk), None)
    mixs = next(
        (
            clip
            for clip in clips
            if clip.track.name.startswith("Timecode") and clip.audio.time_reference_s is not None
        ),
        None,
    )
    if own is None or mixs is None or own.pk == mixs.pk:
        return ""
    origin_s = float(mixs.audio.time_reference_s or 0.0) - (mixs.start_s - mixs.in_s)
    off = frames_ahead(found, own.start_s - own.in_s, origin_s)
    if abs(off) < _EVEN_FRAMES:
        return "It goes with the timecode of the mix. "
    side = "ahead of" if off > 0.0 else "behind"
    return f"It is {abs(off):.1f} frames {side} the timecode of the mix. "


def _said(message: str) -> HttpResponse:
    response = HttpResponse(status=204)
    response["HX-Trigger"] = json.dumps(
        {"mix-edited": True, "mix-changed": True, "say": {"message": message}}
    )
    return response
