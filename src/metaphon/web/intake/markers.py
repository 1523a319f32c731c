"""Markers out of the cues that a recording brings along."""

from django.http import HttpRequest, HttpResponse

from metaphon.core.edits.markers import AddMarker
from metaphon.core.edits.registry import Batch
from metaphon.core.errors import InputError, Vanished
from metaphon.web.intake.timeline import ClipShown, timeline
from metaphon.web.mixes.editing import after_edit, carry_out
from metaphon.web.mixes.permissions import changes_mix, mix_for
from metaphon.web.mixes.recordings import cues_in

_MOST = 500


@changes_mix
def take(request: HttpRequest, mix_id: int, strip_id: str, place: int) -> HttpResponse:
    """Set a marker for each cue of a recording that its clip plays, where it plays it."""
    mix = mix_for(request, mix_id)
    one = timeline(mix, strip_id, place)["chosen"]
    if one is None:
        raise Vanished("This clip is no longer there.")
    found = _markers(one)
    if not found:
        raise InputError(f"There are no markers in the part of {one.audio.name} that is heard.")
    words = f"Took {len(found)} markers from {one.audio.name}"
    mix, _ = carry_out(request, mix_id, Batch(commands=tuple(found), words=words[:255]))
    return after_edit(request, mix, "intake/timeline.html", timeline(mix, strip_id, place))


def _markers(one: ClipShown) -> list[AddMarker]:
    rate_hz = one.audio.source_rate_hz
    places = [(cue.frame / rate_hz, cue.name) for cue in cues_in(one.audio)]
    return [
        AddMarker(at_s=round(one.clip.start_s + at_s - one.clip.in_s, 6), name=name)
        for at_s, name in places
        if one.clip.in_s <= at_s <= one.clip.in_s + one.length_s
    ][:_MOST]
