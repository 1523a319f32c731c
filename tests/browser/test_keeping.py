"""A backup made while somebody edits, put into an empty installation, is one moment of it."""

import hashlib
import json
import subprocess
import sys
import tempfile
import threading
from pathlib import Path
from typing import Any

import psycopg
from django.db import connection

from metaphon.core.edits.values import SetValue
from metaphon.web.mixes import journal
from metaphon.web.mixes.models import AudioFile, Mix
from metaphon.web.mixes.snapshots import document_of
from tests.browser.server import BrowserTest

_EMPTY = "test_metaphon_restored"
_TELL = """
import json
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.snapshots import document_of
mix = Mix.objects.get(title="The Lamp at Skerrow")
found = document_of(mix)
files = [clip.file for track in found.tracks for clip in track.clips]
print(json.dumps([mix.revision, found.find_strip("gull").gain_db, all(f.exists() for f in files)]))
"""


class Kept(BrowserTest):
    def setUp(self) -> None:
        super().setUp()
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.sql(f"DROP DATABASE IF EXISTS {_EMPTY}", f"CREATE DATABASE {_EMPTY}")
        self.addCleanup(self.sql, f"DROP DATABASE IF EXISTS {_EMPTY} WITH (FORCE)")

    def sql(self, *statements: str) -> None:
        held = connection.settings_dict
        with psycopg.connect(
            host=held["HOST"],
            port=held["PORT"],
            user=held["USER"],
            password=held["PASSWORD"],
            dbname="postgres",
            autocommit=True,
        ) as straight:
            for statement in statements:
                straight.execute(statement)  # type: ignore[call-overload]

    def run_there(self, elsewhere: bool, *arguments: str) -> subprocess.CompletedProcess[str]:
        """A command on the installation of the tests, or on the empty one."""
        variables = dict(self.served.environment)
        if elsewhere:
            address, _, _ = variables["METAPHON_DATABASE_URL"].rpartition("/")
            variables["METAPHON_DATABASE_URL"] = f"{address}/{_EMPTY}"
            variables["METAPHON_STORAGE"] = str(self.folder / "storage")
            (self.folder / "storage").mkdir(exist_ok=True)
        command = [sys.executable, "-m", "django", *arguments]
        return subprocess.run(command, env=variables, capture_output=True, text=True, check=False)

    def test_backup_and_restore_under_edits(self) -> None:
        mix = Mix.objects.get(title="The Lamp at Skerrow")
        gains: dict[int, float] = {mix.revision: document_of(mix).find_strip("gull").gain_db}
        ends = threading.Event()

        def edit() -> None:
            number = 0
            while not ends.is_set():
                number += 1
                value = -(number % 40) / 2
                held = Mix.objects.get(pk=mix.pk)
                person = held.members.get().user
                journal.apply(held, person, SetValue(strips=("gull",), path="gain_db", value=value))
                gains[held.revision] = value
            connection.close()

        editor = threading.Thread(target=edit)
        editor.start()
        try:
            self.wait_for(lambda: len(gains) > 5)
            made = self.run_there(False, "backup", str(self.folder / "kept"))
        finally:
            self.wait_for(lambda: len(gains) > 10)
            ends.set()
            editor.join()
        self.assertEqual(made.returncode, 0, made.stderr)
        told = json.loads((self.folder / "kept" / "backup.json").read_text())
        self.assertEqual(told["missing"], [])
        self.assertGreaterEqual(told["files"], AudioFile.objects.count())
        put = self.run_there(True, "restore", str(self.folder / "kept"))
        self.assertEqual(put.returncode, 0, put.stderr)
        said: Any = json.loads(self.run_there(True, "shell", "-v0", "-c", _TELL).stdout)
        revision, gain_db, whole = said
        self.assertEqual(gain_db, gains[revision])
        self.assertTrue(whole)
        self.assertLess(revision, max(gains))
        again = self.run_there(True, "restore", str(self.folder / "kept"))
        self.assertIn("people here already", again.stderr)
        replaced = self.run_there(True, "restore", "--replace", str(self.folder / "kept"))
        self.assertEqual(replaced.returncode, 0, replaced.stderr)

    def test_a_damaged_backup_is_found_and_replaces_nothing(self) -> None:
        kept = self.folder / "kept"
        self.assertEqual(self.run_there(False, "backup", str(kept)).returncode, 0)
        for path in (kept, kept / "database.dump", kept / "backup.json"):
            self.assertEqual(path.stat().st_mode & 0o077, 0, path)  # for nobody else
        whole = self.run_there(False, "backup", "--check", str(kept))
        self.assertIn("is whole", whole.stdout, whole.stderr)
        dump, manifest = kept / "database.dump", kept / "backup.json"
        content, told = dump.read_bytes(), manifest.read_text()
        for secret in (b"pbkdf2", b"session_key"):
            self.assertNotIn(secret, manifest.read_bytes())
        first = self.run_there(True, "restore", str(kept))
        self.assertEqual(first.returncode, 0, first.stderr)
        held = self.run_there(True, "shell", "-v0", "-c", _TELL).stdout
        name = next(iter(json.loads(told)["sums"]))
        sound = kept / "storage" / name
        cut = content[: len(content) // 2]
        sums = {**json.loads(told), "dump": hashlib.sha256(cut).hexdigest()}
        rows = json.loads(told)
        rows["rows"]["mixes_mix"] += 1
        for path, damaged, said in (
            (dump, cut, "is damaged"),
            (sound, sound.read_bytes()[:-1] + b"?", "is damaged"),
            (sound, None, "is missing"),
            (manifest, b"{", "cannot be read"),
            (manifest, json.dumps(rows).encode(), "lacks rows of mixes_mix"),
        ):
            before = path.read_bytes()
            if damaged is None:
                path.unlink()
            else:
                path.write_bytes(damaged)
            refused = self.run_there(True, "restore", "--replace", str(kept))
            self.assertIn(said, refused.stderr, path)
            self.assertNotEqual(refused.returncode, 0)
            path.write_bytes(before)
            self.assertEqual(self.run_there(True, "shell", "-v0", "-c", _TELL).stdout, held)
        # a dump that ends too soon, of which the manifest knows nothing
        dump.write_bytes(cut)
        manifest.write_text(json.dumps(sums))
        refused = self.run_there(True, "restore", "--replace", str(kept))
        self.assertIn("pg_restore failed", refused.stderr)
        self.assertEqual(self.run_there(True, "shell", "-v0", "-c", _TELL).stdout, held)

    def test_what_is_no_backup_and_what_runs_is_refused(self) -> None:
        for folder in (self.folder / "nothing", self.folder):
            self.assertIn("no whole backup", self.run_there(True, "restore", str(folder)).stderr)
        (self.folder / "mine.txt").write_text("mine")
        self.assertIn("something else", self.run_there(False, "backup", str(self.folder)).stderr)
        kept = str(self.folder / "kept")
        first, second = (self.run_there(False, "backup", kept) for _ in range(2))
        self.assertEqual((first.returncode, second.returncode), (0, 0), second.stderr)
        refused = self.run_there(False, "restore", "--replace", kept)
        self.assertIn("A worker is running", refused.stderr)
        self.assertTrue(Mix.objects.filter(title="The Lamp at Skerrow").exists())
