"""A copy of a whole installation, database and storage, as they were at one moment; and back.

The database is looked at in one transaction whose snapshot the dump shares, so that every file that
a row of the dump names is the one that is copied. Stored files never change, so a second copy into
the same folder takes only what is new.
"""

import hashlib
import json
import os
import shutil
import subprocess
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import psycopg
from django.contrib.auth import get_user_model
from django.core.management import call_command
from django.db import Error, connection, transaction

from metaphon.core.document.targets import target_named
from metaphon.core.engine.plan import compile
from metaphon.core.engine.render import Output, render
from metaphon.core.errors import InputError
from metaphon.web.jobs.sweeping import named_files
from metaphon.web.jobs.workers import served_queues
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.snapshots import document_of
from metaphon.web.storage import stored

_DUMP, _STORAGE, _MANIFEST = "database.dump", "storage", "backup.json"
# who is signed in; everybody signs in anew after a restore
_NOT_KEPT = ("django_session", "people_sessionrecord")


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
    folder.chmod(0o700)  # what is in it opens everything
    (folder / _MANIFEST).unlink(missing_ok=True)  # until all of it is there it is none
    with transaction.atomic(), connection.cursor() as cursor:
        cursor.execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ")
        cursor.execute("SELECT pg_export_snapshot()")
        (snapshot,) = cursor.fetchone()
        began = datetime.now(UTC)
        names = sorted(name for name in named_files() if name)
        rows = _row_counts()
        passing.touch(0o600)
        passing.chmod(0o600)
        not_kept = [f"--exclude-table-data={table}" for table in _NOT_KEPT]
        run_program(
            "pg_dump",
            "--format=custom",
            f"--snapshot={snapshot}",
            f"--file={passing}",
            *not_kept,
            _name(),
        )
        missing = taken_out(names, folder / _STORAGE)
    passing.replace(folder / _DUMP)
    _forget_others(folder / _STORAGE, set(names))
    told = {
        "format": "metaphon-backup",
        "version": 2,
        "made_at": began.isoformat(timespec="seconds"),
        "files": len(names) - len(missing),
        "bytes": sum((folder / _STORAGE / name).stat().st_size for name in {*names} - {*missing}),
        "missing": missing,
        "rows": rows,
        "dump": _sum_of(folder / _DUMP),
        "sums": {
            name: _sum_of(folder / _STORAGE / name) for name in names if name not in {*missing}
        },
    }
    manifest = folder / _MANIFEST
    manifest.touch(0o600)
    manifest.write_text(json.dumps(told, indent=1), encoding="utf-8")
    return told


def check_backup(folder: Path) -> dict[str, Any]:
    """Read a backup through: every file by its length and checksum, and the dump to its end.

    Returns
    -------
    dict
        The manifest.

    Raises
    ------
    InputError
        In one sentence, naming what is missing or damaged.
    """
    manifest = folder / _MANIFEST
    if not manifest.exists() or not (folder / _DUMP).exists():
        raise InputError(f"{folder} is no whole backup; name the folder that backup was given.")
    try:
        told: dict[str, Any] = json.loads(manifest.read_text(encoding="utf-8"))
        sums: dict[str, str] = {}
        if told["version"] > 1:  # the first version wrote none
            sums = {_DUMP: told["dump"], **told["sums"]}
    except (ValueError, KeyError, TypeError):
        raise InputError(f"{manifest} cannot be read; use another backup.") from None
    for name, wanted in sums.items():
        path = folder / name if name == _DUMP else folder / _STORAGE / name
        if not path.is_file():
            raise InputError(f"{name} is missing in this backup; use another one.")
        if _sum_of(path) != wanted:
            raise InputError(f"{name} of this backup is damaged; use another one.")
    run_program("pg_restore", "--file=/dev/null", str(folder / _DUMP))
    return told


def restore(folder: Path, *, replace: bool = False) -> dict[str, Any]:
    """Make the installation what it was when a backup was made, brought up to this version.

    The backup is checked, put into a database beside the one in use, upgraded and tried; only then
    do both change names, at once. Raises InputError where the folder is none, something is at work,
    there is something already and it is not to be replaced, or the backup is damaged or does not
    hold what it says; then nothing is changed.
    """
    told = check_backup(folder)
    tables = connection.introspection.table_names()
    if "procrastinate_workers" in tables and served_queues():
        raise InputError("A worker is running; stop everything that serves, then restore.")
    if not replace and "auth_user" in tables and get_user_model().objects.exists():
        raise InputError("There are people here already; give --replace to put the backup first.")
    for name in _below(folder / _STORAGE):
        _put_in(name, folder / _STORAGE / name)
    beside = f"{_name()}_restoring"
    _in_maintenance(f'DROP DATABASE IF EXISTS "{beside}" WITH (FORCE)')
    try:
        _in_maintenance(f'CREATE DATABASE "{beside}"')
        with _using(beside):
            run_program(
                "pg_restore",
                "--no-owner",
                "--exit-on-error",
                f"--dbname={beside}",
                str(folder / _DUMP),
            )
            _require_rows(told.get("rows", {}))
            call_command("migrate", interactive=False, verbosity=0)
            _try_out()
            with connection.cursor() as cursor:
                # the workers of then are dead: what they did is taken over
                cursor.execute(
                    "UPDATE procrastinate_workers SET last_heartbeat = now() - interval '1 hour'"
                )
        _switch(beside)
    finally:
        _in_maintenance(f'DROP DATABASE IF EXISTS "{beside}" WITH (FORCE)')
    return told


def _switch(beside: str) -> None:
    """Let the database beside take the name of the one in use; the old one goes when it answers."""
    own, former = _name(), f"{_name()}_former"
    connection.close()
    connection.close_pool()  # type: ignore[attr-defined]
    _in_maintenance(f'DROP DATABASE IF EXISTS "{former}" WITH (FORCE)')
    # both names at once, or none
    _in_maintenance(
        f'BEGIN; ALTER DATABASE "{own}" RENAME TO "{former}"; '
        f'ALTER DATABASE "{beside}" RENAME TO "{own}"; COMMIT'
    )
    try:
        get_user_model().objects.exists()
    except Error:
        connection.close()
        connection.close_pool()  # type: ignore[attr-defined]
        _in_maintenance(
            f'BEGIN; ALTER DATABASE "{own}" RENAME TO "{beside}"; '
            f'ALTER DATABASE "{former}" RENAME TO "{own}"; COMMIT'
        )
        raise InputError("The restored database does not answer; all is as it was.") from None
    _in_maintenance(f'DROP DATABASE IF EXISTS "{former}" WITH (FORCE)')


@contextmanager
def _using(name: str) -> Iterator[None]:
    """Work within it on another database of the same server."""
    own = connection.settings_dict["NAME"]

    def use(which: str) -> None:
        connection.close()
        connection.close_pool()  # type: ignore[attr-defined]
        connection.settings_dict["NAME"] = which

    use(name)
    try:
        yield
    finally:
        use(own)


def _in_maintenance(statement: str) -> None:
    """Carry out a statement about whole databases, from one that is none of ours."""
    held = connection.settings_dict
    try:
        with psycopg.connect(
            host=str(held["HOST"]),
            port=str(held["PORT"]) or None,
            user=str(held["USER"]),
            password=str(held["PASSWORD"]) or None,
            dbname="postgres",
            autocommit=True,
        ) as straight:
            straight.execute(statement.encode())
    except psycopg.Error as error:
        first = str(error).strip().splitlines()[0]
        raise InputError(
            f"The server refuses to change databases ({first}); stop all that serves, and use a "
            "role that may create databases."
        ) from None


def _require_rows(wanted: Mapping[str, int]) -> None:
    found = _row_counts()
    wrong = [table for table, count in wanted.items() if found.get(table) != count]
    if wrong:
        raise InputError(f"The dump lacks rows of {', '.join(wrong)}; use another backup.")


def _row_counts() -> dict[str, int]:
    """How many rows each table has, but for those that are not kept."""
    with connection.cursor() as cursor:
        tables = connection.introspection.table_names(cursor)
        counts = {}
        for table in sorted({*tables} - {*_NOT_KEPT}):
            cursor.execute(f'SELECT count(*) FROM "{table}"')
            (counts[table],) = cursor.fetchone()
    return counts


def _try_out() -> None:
    """Render the beginning of the newest mix that has recordings, if there is one."""
    for mix in Mix.objects.order_by("-pk"):
        try:
            document = document_of(mix)
            blocks = render(compile(document), [Output(target_named("0+2+0"))])
            next(iter(blocks), None)
        except InputError:  # empty, or cannot be played; the next
            continue
        return


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


def _sum_of(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def _name() -> str:
    return str(connection.settings_dict["NAME"])


def run_program(program: str, *arguments: str) -> None:
    """Run one of PostgreSQL's programs on the server of the settings."""
    try:
        subprocess.run(
            [_found(program), *arguments],
            env={**os.environ, **_address(connection.settings_dict)},
            check=True,
            capture_output=True,
            text=True,
        )
    except subprocess.CalledProcessError as error:
        told = error.stderr.strip().splitlines() or ["without a word"]
        raise InputError(f"{program} failed: {told[-1]}") from None


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
