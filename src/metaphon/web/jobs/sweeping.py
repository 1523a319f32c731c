"""Giving back what nobody needs any more: what broke off, and files that no row names."""

import shutil
import time
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path

from django.apps import apps
from django.conf import settings
from django.contrib.sessions.models import Session
from django.db.models import FileField
from django.utils.timezone import now

from metaphon.web.intake.models import Arrival

_WAITS = timedelta(days=7)  # how long what broke off waits to be gone on with
_SETTLED_S = 86_400.0  # what is younger may belong to work that is under way
_KEPT_IN = ("mixes", "people", "spaces")


def sweep() -> int:
    """Sweep arrivals that broke off, scratch, files that no row names, and expired sessions.

    Returns
    -------
        How many files and folders were deleted.
    """
    for arrival in Arrival.objects.filter(created_at__lt=now() - _WAITS):
        arrival.forget()
    Session.objects.filter(expire_date__lt=now()).delete()
    root = Path(settings.MEDIA_ROOT)
    scratch = {root / "scratch", Path(settings.FILE_UPLOAD_TEMP_DIR or root / "scratch")}
    arriving = {arrival.path for arrival in Arrival.objects.all()}
    left = [path for folder in scratch for path in _settled(folder, deep=False)]
    swept = [path for path in left if path not in arriving]
    named = named_files()
    for folder in _KEPT_IN:
        swept += [path for path in _settled(root / folder) if _below(root, path) not in named]
    for path in swept:
        if path.is_dir():
            shutil.rmtree(path, ignore_errors=True)
        else:
            path.unlink(missing_ok=True)
    for folder in _KEPT_IN:
        _drop_empty(root / folder)
    return len(swept)


def _settled(folder: Path, deep: bool = True) -> Iterator[Path]:
    """What has lain in a folder for a day: its files and those below, or what it holds itself."""
    before = time.time() - _SETTLED_S
    for path in folder.rglob("*") if deep else folder.glob("*"):
        if (path.is_file() or not deep) and path.lstat().st_mtime < before:
            yield path


def _below(root: Path, path: Path) -> str:
    return path.relative_to(root).as_posix()


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
