"""Results of renders as recordings of their mix."""

import shutil
import tempfile
from pathlib import Path

from django.conf import settings
from django.core.files.storage import default_storage

from metaphon.web.jobs.models import RenderFile
from metaphon.web.mixes.models import AudioFile
from metaphon.web.mixes.recordings import store


def as_recording(file: RenderFile) -> AudioFile:
    """A copy of a result among the recordings of its mix, at its rate."""
    scratch = Path(settings.MEDIA_ROOT) / "scratch"
    scratch.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(dir=scratch) as folder:
        path = Path(folder) / file.name
        shutil.copyfile(default_storage.path(str(file.file.name)), path)
        return store(file.render.mix, path, file.name)
