"""A copy of a whole installation, database and storage, as they were at one moment; and back.

The database is looked at in one transaction whose snapshot the dump shares, so that every file that
a row of the dump names is the one that is copied. Stored files never change, so a second copy into
the same folder takes only what is new.
"""

import json
import os
import shutil
import subprocess
from collections.abc import Iterable, Mapping
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from django.contrib.auth import get_user_model
from django.core.management import call_command
from django.db import connection, transaction

from metaphon.core.errors import InputError
from metaphon.web.jobs.sweeping import named_files
from metaphon.web.jobs.workers import served_queues
from metaphon.web.storage import stored

_DUMP, _STORAGE, _MANIFEST = "database.dump", "storage", "backup.json"


def back_up(folder: Path) -> dict[str, Any]:
    """Copy everything into a folder, while all goes on.

    Returns
    -------
        The manifest: when, how many files and bytes, and which files had gone from storage.
    """
    folder.mkdir(parents=True, exist_ok=True)
    passing = folder / f"{_DUMP}.part"
    own = {_DUMP, passing.name, _STORAGE, _MANIFEST}  # one that broke off is gone on with
    if any(path.name not in own for path in folder.iterdir()):
        raise InputError(f"{folder} holds something else; name an empty folder or a former backup.")
    (folder / _MANIFEST).unlink(missing_ok=True)  # until all of it is there it is none
    with transaction.atomic(), connection.cursor() as cursor:
        cursor.execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ")
        cursor.execute("SELECT pg_export_snapshot()")
        (snapshot,) = cursor.fetchone()
        began = datetime.now(UTC)
        names = sorted(name for name in named_files() if name)
        _run("pg_dump", "--format=custom", f"--snapshot={snapshot}", f"--file={passing}")
        missing = taken_out(names, folder / _STORAGE)
    passing.replace(folder / _DUMP)
    _forget_others(folder / _STORAGE, set(names))
    told = {
        "format": "metaphon-backup",
        "version": 1,
        "made_at": began.isoformat(timespec="seconds"),
        "files": len(names) - len(missing),
        "bytes": sum((folder / _STORAGE / name).stat().st_size for name in {*names} - {*missing}),
        "missing": missing,
    }
    (folder / _MANIFEST).write_text(json.dumps(told, indent=1), encoding="utf-8")
    return told


def restore(folder: Path, *, replace: bool = False) -> dict[str, Any]:
    """Make the installation what it was when a backup was made, brought up to this version.

    Raises InputError where the folder is none, something is at work, or there is something already
    and it is not to be replaced; then nothing is changed.
    """
    manifest = folder / _MANIFEST
    if not manifest.exists() or not (folder / _DUMP).exists():
        raise InputError(f"{folder} is no whole backup; name the folder that backup was given.")
    told: dict[str, Any] = json.loads(manifest.read_text(encoding="utf-8"))
    tables = connection.introspection.table_names()
    if "procrastinate_workers" in tables and served_queues():
        raise InputError("A worker is running; stop everything that serves, then restore.")
    if not replace and "auth_user" in tables and get_user_model().objects.exists():
        raise InputError("There are people here already; give --replace to put the backup first.")
    for name in _below(folder / _STORAGE):
        _put_in(name, folder / _STORAGE / name)
    with connection.cursor() as cursor:
        cursor.execute("DROP SCHEMA public CASCADE")
        cursor.execute("CREATE SCHEMA public")
    connection.close()
    _run("pg_restore", "--no-owner", "--exit-on-error", "--dbname", _name(), str(folder / _DUMP))
    call_command("migrate", interactive=False, verbosity=0)
    with connection.cursor() as cursor:  # the workers of then are dead: what they did is taken over
        cursor.execute(
            "UPDATE procrastinate_workers SET last_heartbeat = now() - interval '1 hour'"
        )
    return told


def taken_out(names: Iterable[str], folder: Path) -> list[str]:
    """Copy what is not there yet in the same length; gives the names that storage lacks."""
    missing = []
    for name in names:
        to = folder / name
        try:
            if to.exists() and to.stat().st_size == stored.size(name):
                continue
            to.parent.mkdir(parents=True, exist_ok=True)
            passing = to.with_name(f".{to.name}.part")
            stored.take_out(name, passing)
            passing.replace(to)
        except FileNotFoundError:
            missing.append(name)
    return missing


def _put_in(name: str, path: Path) -> None:
    """Store a file under its name, where it is not there yet in the same length."""
    if not stored.exists(name) or stored.size(name) != path.stat().st_size:
        stored.put_in(name, path)


def _below(folder: Path) -> list[str]:
    return [path.relative_to(folder).as_posix() for path in folder.rglob("*") if path.is_file()]


def _forget_others(folder: Path, names: set[str]) -> None:
    for name in _below(folder):
        if name not in names:
            (folder / name).unlink()


def _name() -> str:
    return str(connection.settings_dict["NAME"])


def _run(program: str, *arguments: str) -> None:
    """Run one of PostgreSQL's programs on the database of the settings."""
    held = connection.settings_dict
    last = [] if program == "pg_restore" else [_name()]
    try:
        subprocess.run(
            [_found(program), *arguments, *last],
            env={**os.environ, **_address(held)},
            check=True,
            capture_output=True,
            text=True,
        )
    except subprocess.CalledProcessError as error:
        raise InputError(f"{program} failed: {error.stderr.strip().splitlines()[-1]}") from None


def _address(held: Mapping[str, Any]) -> dict[str, str]:
    found = {"PGHOST": held["HOST"], "PGPORT": held["PORT"], "PGUSER": held["USER"]}
    if held.get("OPTIONS", {}).get("sslmode"):
        found["PGSSLMODE"] = held["OPTIONS"]["sslmode"]
    found["PGPASSWORD"] = held["PASSWORD"]
    return {name: str(value) for name, value in found.items() if value}


def _found(program: str) -> str:
    servers = sorted(
        Path("/usr/lib/postgresql").glob(f"*/bin/{program}"), key=lambda path: int(path.parts[-3])
    )
    found = str(servers[-1]) if servers else shutil.which(program)
    if not found:
        raise InputError(f"{program} is not installed; install Debian's package postgresql-client.")
    return found
