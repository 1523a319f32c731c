"""Results of renders as recordings of their mix."""

import tempfile
from pathlib import Path

from django.shortcuts import get_object_or_404

from metaphon.web.jobs.models import RenderFile
from metaphon.web.mixes.models import AudioFile, Mix
from metaphon.web.mixes.recordings import store
from metaphon.web.storage import scratch, stored


def result_of(mix: Mix, number: int) -> RenderFile:
    """A result of a render of a mix, by its number. Raises Http404 where there is none."""
    return get_object_or_404(RenderFile, pk=number, render__mix=mix, kind="audio")


def as_recording(file: RenderFile) -> AudioFile:
    """A copy of a result among the recordings of its mix, at its rate."""
    with tempfile.TemporaryDirectory(dir=scratch()) as folder:
        path = Path(folder) / file.name
        stored.take_out(str(file.file.name), path)
        return store(file.render.mix, path, file.name)
