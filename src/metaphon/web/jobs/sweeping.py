"""Giving back what nobody needs any more: what broke off, and files that no row names."""

import shutil
from datetime import datetime, timedelta
from pathlib import Path

from django.apps import apps
from django.conf import settings
from django.contrib.sessions.models import Session
from django.db.models import FileField
from django.utils.timezone import now

from metaphon.web.intake.models import Arrival
from metaphon.web.storage import ARRIVING, KEPT_IN, scratch, stored

_WAITS = timedelta(days=7)  # how long what broke off waits to be gone on with
_SETTLED = timedelta(days=1)  # what is younger may belong to work that is under way


def sweep() -> int:
    """Sweep arrivals that broke off, scratch, files that no row names, and expired sessions.

    Returns
    -------
        How many files and folders were deleted, or made way on this machine.
    """
    for arrival in Arrival.objects.filter(created_at__lt=now() - _WAITS):
        arrival.forget()
    Session.objects.filter(expire_date__lt=now()).delete()
    before = now() - _SETTLED
    swept = [path for folder in _local() for path in folder.glob("*") if _is_settled(path, before)]
    for path in swept:
        if path.is_dir():
            shutil.rmtree(path, ignore_errors=True)
        else:
            path.unlink(missing_ok=True)
    named = named_files()
    arriving = {arrival.folder for arrival in Arrival.objects.all()}
    lost = [
        name
        for folder in (*KEPT_IN, ARRIVING)
        for name, stored_at in stored.below(folder)
        if stored_at < before and name not in named and name.rpartition("/")[0] not in arriving
    ]
    for name in lost:
        stored.delete(name)
    given = stored.make_way(settings.CACHE_BYTES)
    for folder in (*KEPT_IN, ARRIVING):
        _drop_empty(Path(settings.MEDIA_ROOT) / folder)
    return len(swept) + len(lost) + given


def _local() -> set[Path]:
    """Where this machine makes what is not stored yet."""
    return {scratch(), Path(settings.FILE_UPLOAD_TEMP_DIR or scratch())}


def _is_settled(path: Path, before: datetime) -> bool:
    return path.lstat().st_mtime < before.timestamp() and path.name not in (*KEPT_IN, ARRIVING)


def named_files() -> set[str]:
    """Every stored file that some row of any table names."""
    named: set[str] = set()
    for model in apps.get_models():
        for field in model._meta.concrete_fields:
            if isinstance(field, FileField):
                rows = model._default_manager.values_list(field.name, flat=True)
                named.update(rows.iterator())
    return named


def _drop_empty(folder: Path) -> None:
    for path in sorted(folder.rglob("*"), reverse=True):
        if path.is_dir() and not any(path.iterdir()):
            path.rmdir()
