"""Results of renders as recordings of their mix."""

import shutil
import tempfile
from pathlib import Path

from django.conf import settings
from django.core.files.storage import default_storage
from django.shortcuts import get_object_or_404

from metaphon.web.jobs.models import RenderFile
from metaphon.web.mixes.models import AudioFile, Mix
from metaphon.web.mixes.recordings import store


def result_of(mix: Mix, number: int) -> RenderFile:
    """A result of a render of a mix, by its number. Raises Http404 where there is none."""
    return get_object_or_404(RenderFile, pk=number, render__mix=mix, kind="audio")


def as_recording(file: RenderFile) -> AudioFile:
    """A copy of a result among the recordings of its mix, at its rate."""
    scratch = Path(settings.MEDIA_ROOT) / "scratch"
    scratch.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(dir=scratch) as folder:
        path = Path(folder) / file.name
        shutil.copyfile(default_storage.path(str(file.file.name)), path)
        return store(file.render.mix, path, file.name)
