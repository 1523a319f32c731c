"""Results brought back in as tracks at their exact place."""

import json
from pathlib import Path

from django.http import HttpRequest, HttpResponse

from metaphon.core.document.mix import Mix as Document
from metaphon.core.document.targets import target_named
from metaphon.core.edits.command import Command
from metaphon.core.edits.registry import Batch
from metaphon.core.edits.structure import AddTrack
from metaphon.core.edits.values import SetValue
from metaphon.core.engine.stems import stems_of
from metaphon.web.jobs.models import RenderFile
from metaphon.web.jobs.rendering import asked_of, begins_s
from metaphon.web.jobs.results import as_recording, result_of
from metaphon.web.mixes.editing import carry_out
from metaphon.web.mixes.models import AudioFile
from metaphon.web.mixes.permissions import changes_mix, mix_for
from metaphon.web.mixes.snapshots import document_at, document_of
from metaphon.web.mixes.stored_files import local_path


@changes_mix
def bring(request: HttpRequest, mix_id: int, file_id: int) -> HttpResponse:
    """Take a result in as a track, with `rest` its originals put to rest in the same step."""
    mix = mix_for(request, mix_id)
    file = result_of(mix, file_id)
    commands: list[Command] = [_track(file, as_recording(file))]
    awake = _originals(file, document_of(mix)) if "rest" in request.POST else []
    if awake:
        commands.append(SetValue(strips=tuple(awake), path="resting", value=True))
    carry_out(request, mix_id, Batch(commands=tuple(commands)))
    said = f"{file.title} is a track now."
    said += f" {len(awake)} of its originals rest." if awake else ""
    response = HttpResponse(status=204)
    response["HX-Trigger"] = json.dumps(
        {"mix-edited": True, "mix-changed": True, "say": {"message": said}}
    )
    return response


def _track(file: RenderFile, audio: AudioFile) -> AddTrack:
    """The track of a result: as wide and where it was."""
    target, start_s = target_named(file.target), begins_s(file)
    return AddTrack(
        name=Path(file.name).stem[:110],
        file=local_path(audio),
        start_s=max(start_s, 0.0),
        in_s=max(-start_s, 0.0),
        mode="scene" if target.order else "bed",
        layout=target.layout.name if target.layout else None if target.order else "0+2+0",
    )


def _originals(file: RenderFile, document: Document) -> list[str]:
    """The tracks that a result was made of and that are still awake."""
    wanted, before = asked_of(file.render), document_at(file.render.mix, file.render.revision)
    members = frozenset(track.id for track in before.tracks if track.clips)
    if file.stem:
        word = file.stem.removesuffix("_dry")
        found = [s for kind in wanted.stems for s in stems_of(before, kind, wanted.rooms)]
        members = next((stem.members for stem in found if stem.word == word), frozenset())
    return [t.id for t in document.tracks if t.id in members and not t.resting]
