"""A mix document made into the rows of a new mix."""

from collections.abc import Callable
from pathlib import Path

from django.db import transaction

from metaphon.core.document.mix import Mix as Document
from metaphon.core.files.mixdoc import with_files
from metaphon.web.mixes.models import AudioFile, Mix
from metaphon.web.mixes.rows import write_document
from metaphon.web.mixes.snapshots import Snapshot, keep, snapshot_of
from metaphon.web.mixes.stored_files import local_path


def unpack(document: Document, mix: Mix, recording: Callable[[Path], AudioFile]) -> None:
    """Make the rows of a document in an empty mix.

    `recording` brings a file in and gives its row.
    """
    found: dict[Path, Path] = {}

    def brought(file: Path) -> Path:
        if file not in found:
            found[file] = local_path(recording(file))
        return found[file]

    wanted, empty = with_files(document, brought), snapshot_of(mix).document
    with transaction.atomic():
        write_document(mix, empty, wanted)
    mix.refresh_from_db()
    keep(mix, Snapshot(mix.state, mix.revision, wanted))
