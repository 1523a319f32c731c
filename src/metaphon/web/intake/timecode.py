"""Timecode in Intake: a track of it made, and read from what was recorded beside a sound."""

import json
import uuid

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render

from metaphon.core.engine.plan import length_frames
from metaphon.core.errors import InputError
from metaphon.core.files.apart import read_apart
from metaphon.core.files.timecode_track import timecode_in
from metaphon.core.measure.timecode import (
    RATES,
    Found,
    FrameRate,
    Timecode,
    frames_ahead,
    read_timecode,
)
from metaphon.web.intake.arrivals import arriving
from metaphon.web.intake.models import Arrival
from metaphon.web.intake.tasks import make_timecode
from metaphon.web.mixes.models import AudioFile, Clip, Mix
from metaphon.web.mixes.permissions import changes_mix, mix_for
from metaphon.web.mixes.snapshots import document_of
from metaphon.web.mixes.space import require_space, reserving
from metaphon.web.mixes.stored_files import local_path
from metaphon.web.shell.posted import number_in

_SHORTEST_S = 60.0
_LONGEST_S = 6 * 3600.0
_BYTES_A_SAMPLE = 3
MOST_FRAMES = 5000
_EVEN_FRAMES = 0.05


@changes_mix
def add(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Make a track of timecode as long as the mix, at rest."""
    return _made(request, mix_for(request, mix_id), f"Timecode {_asked(request)[0].title}")


@changes_mix
def record(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Let the simulated recorder take the mix up, its clock out by some frames: to practise on."""
    text = request.POST.get("frames", "").strip().replace("\u2212", "-")
    ahead = number_in(text.removeprefix("-"))
    if ahead is None or ahead > MOST_FRAMES:
        raise InputError(f"The recorder can be out by up to {MOST_FRAMES} frames; type how many.")
    ahead = -ahead if text.startswith("-") else ahead
    return _made(request, mix_for(request, mix_id), "Recorder", ahead)


def _made(
    request: HttpRequest, mix: Mix, name: str, frames_ahead: int | None = None
) -> HttpResponse:
    """Have a track of timecode made, and show it among what arrives."""
    rate, start = _asked(request)
    length_s = _length_s(mix)
    if length_s > _LONGEST_S:
        raise InputError(
            f"Timecode can be {_LONGEST_S / 3600:g} hours long, and this mix is longer."
        )
    channels = 1 if frames_ahead is None else 2
    length = round(length_s * mix.sample_rate_hz) * channels * _BYTES_A_SAMPLE
    with reserving():
        require_space(mix, length)
        row = Arrival.objects.create(
            mix=mix,
            user_id=int(request.user.pk or 0),
            key=uuid.uuid4(),
            name=f"{name}.wav",
            length=length,
            offset=length,
            status=Arrival.Status.CHECKING,
            message="being made",
        )
        make_timecode.defer(
            arrival_id=row.pk,
            rate=request.POST.get("rate", ""),
            start=request.POST.get("start", ""),
            length_s=length_s,
            frames_ahead=frames_ahead,
        )
    response = render(request, "intake/arrivals.html", {"mix": mix, **arriving(request, mix)})
    response["HX-Retarget"], response["HX-Reswap"] = "#arrivals", "outerHTML"
    said = f"{name} from {start.told(rate.drops)} is being made; it becomes a track, deactivated."
    response["HX-Trigger"] = json.dumps({"say": {"message": said}})
    return response


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


@changes_mix
def read(request: HttpRequest, mix_id: int, audio_id: int) -> HttpResponse:
    """Look for timecode in a recording; what it tells becomes the recording's time reference."""
    audio = get_object_or_404(AudioFile, pk=audio_id, mix=mix_for(request, mix_id))
    path = local_path(audio)
    found = read_apart(timecode_in, path, path=path, name=audio.name)
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
    origin_s = float(mixs.audio.time_reference_s or 0.0) - _begins_s(mixs)
    off = frames_ahead(found, _begins_s(own), origin_s)
    if abs(off) < _EVEN_FRAMES:
        return "It goes with the timecode of the mix. "
    side = "ahead of" if off > 0.0 else "behind"
    return f"It is {abs(off):.1f} frames {side} the timecode of the mix. "


def _begins_s(clip: Clip) -> float:
    """When the first sample of a clip's recording would be heard."""
    return clip.document.start_s - clip.document.in_s


def _said(message: str) -> HttpResponse:
    response = HttpResponse(status=204)
    response["HX-Trigger"] = json.dumps(
        {"mix-edited": True, "mix-changed": True, "say": {"message": message}}
    )
    return response
