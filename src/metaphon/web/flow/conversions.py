"""Beds made into objects and objects into a scene, from Flow, and how exactly that nulls."""

import json

from django.http import HttpRequest, HttpResponse

from metaphon.core.document.channel_mapping import format_of
from metaphon.core.document.mix import Mix as Document
from metaphon.core.document.mix import Track
from metaphon.core.document.playable import ChannelsOf
from metaphon.core.document.targets import Target, target_named
from metaphon.core.edits.command import Command, strip_of
from metaphon.core.edits.registry import Batch, read
from metaphon.core.engine.edit_null import EditNull, measure_edit_null
from metaphon.core.errors import InputError
from metaphon.core.spatial.layouts import LAYOUTS
from metaphon.web.flow.views import changed
from metaphon.web.mixes.editing import carry_out, ids_in
from metaphon.web.mixes.permissions import changes_mix, mix_for
from metaphon.web.mixes.snapshots import channels_in, document_of

_EXACT_DB = -90.0
_SCENE_ORDER = 3


@changes_mix
def split(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Make objects of the channels of tracks, as one step."""
    mix = mix_for(request, mix_id)
    document, channels, strips = document_of(mix), channels_in(mix), ids_in(request)
    if not strips:
        raise InputError("Nothing is chosen to split; choose some tracks first.")
    commands = [
        read(
            {
                "kind": "split_to_objects",
                "strip": one,
                "labels": _labels_of(document, one, channels),
            }
        )
        for one in strips
    ]
    widths = [format_of(*_used(document, one, channels)) for one in strips]
    widest = max(widths, key=lambda width: width.channels)
    command = commands[0] if len(commands) == 1 else Batch(commands=tuple(commands))
    return _converted(request, mix_id, command, widest)


@changes_mix
def gather(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Make a scene of the chosen objects, as one step."""
    strips = ids_in(request)
    if not strips:
        raise InputError("Nothing is chosen; choose the objects first.")
    command = read({"kind": "gather_into_scene", "strips": strips, "order": _SCENE_ORDER})
    return _converted(request, mix_id, command, target_named(f"scene{_SCENE_ORDER}"))


def _used(document: Document, strip_id: str, channels_of: ChannelsOf) -> tuple[Track, int]:
    """A track and how many channels of its recording it plays."""
    track = strip_of(document, strip_id)
    if not isinstance(track, Track) or not track.clips:
        raise InputError(f"{track.name} has no recording; only tracks with one can be split.")
    return track, track.channels_used(channels_of(track.clips[0].file) or 0)


def _labels_of(document: Document, strip_id: str, channels_of: ChannelsOf) -> tuple[str, ...]:
    """What each channel of a track's recording is, in the order of the recording."""
    track, used = _used(document, strip_id, channels_of)
    recorded = channels_of(track.clips[0].file) or 0
    told = LAYOUTS[track.layout].labels if track.layout in LAYOUTS else track.layout.split()
    if len(told) == recorded:
        return tuple(told)
    layout = format_of(track, used).layout
    if layout is None:
        raise InputError(f"{track.name} is an ambisonic scene; it has no loudspeakers to split.")
    return layout.labels


def _converted(request: HttpRequest, mix_id: int, command: Command, target: Target) -> HttpResponse:
    """Carry a conversion out, and say how far the result is from what was there."""
    mix, applied = carry_out(request, mix_id, command)
    touched = {one.id for one in applied.after.tracks if one != applied.before.find_strip(one.id)}
    null = measure_edit_null(applied.before, applied.after, touched, target)
    said = f"{applied.what}. {_in_words(null)}" if null else f"{applied.what}."
    response = changed(request, mix, None)
    response["HX-Trigger"] = json.dumps({"mix-edited": True, "say": {"message": said}})
    return response


def _in_words(null: EditNull) -> str:
    level = f"\u2212{-null.difference_db:.0f} dB" if null.difference_db < 0.0 else "0 dB"
    text = f"Null in {null.target.title}: {level}"
    if null.difference_db <= _EXACT_DB:
        return f"{text}."
    return f"{text}; size, distance or what works across channels is lost. Undo takes it back."
