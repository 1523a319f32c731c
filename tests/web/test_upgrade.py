"""From older versions to this one, with what was there."""

import json
import os
import subprocess
import sys
import tempfile
import uuid
from typing import Any

from django.db import connection
from django.test import TransactionTestCase


class Upgrade(TransactionTestCase):
    def setUp(self) -> None:
        name = f"upgrade_{uuid.uuid4().hex}"
        with connection.cursor() as cursor:
            cursor.execute(f"CREATE DATABASE {name}")
        self.addCleanup(self._drop, name)
        held = connection.settings_dict
        place = f"{held['USER']}:{held['PASSWORD']}@{held['HOST']}:{held['PORT']}"
        folder = self.enterContext(tempfile.TemporaryDirectory())
        self.variables = {
            **os.environ,
            "METAPHON_DATABASE_URL": f"postgres://{place}/{name}",
            "METAPHON_STORAGE": folder,
            "METAPHON_UPLOADS": folder,
        }

    def test_a_mix_of_the_first_version_is_what_it_was(self) -> None:
        self._run("-m", "tests.web.upgrading", "begin")
        self._run("-m", "django", "migrate", "--verbosity", "0")
        told: dict[str, Any] = json.loads(self._run("-m", "tests.web.upgrading", "look"))
        self.assertEqual((told["pages"], told["edited"]), ([200] * 5, 200))
        [track], [bus] = told["tracks"], told["buses"]
        self.assertEqual((told["title"], told["targets"]), ("Pier", ["0+5+0"]))
        self.assertEqual((track["name"], track["gain_db"]), ("Gull", -6.0))
        self.assertEqual(track["placement"]["azimuth_deg"], 30.0)
        self.assertEqual((track["placement"]["mode"], bus["layout"]), ("object", "0+5+0"))
        self.assertEqual([(s["bus"], s["level_db"]) for s in track["sends"]], [("hall", -9.0)])
        self.assertEqual(track["chain"][0]["bands"][0]["gain_db"], 3.0)
        self.assertEqual(track["clips"][0]["start_s"], 0.25)
        self.assertGreater(told["held"], 24000 * 3)

    def test_five_thousand_edits_in_columns_are_what_they_were(self) -> None:
        """At any time in their history; and they are taken back and made again."""
        self._run("-m", "tests.web.upgrading", "begin_edited")
        self._run("-m", "django", "migrate", "--verbosity", "0")
        told: dict[str, Any] = json.loads(self._run("-m", "tests.web.upgrading", "look_edited"))
        self.assertEqual(told["different"], [])
        self.assertTrue(told["same"])
        self.assertEqual(told["redone"], 2)
        self.assertGreater(told["undone"], 10)

    def _run(self, *arguments: str) -> str:
        done = subprocess.run(
            [sys.executable, *arguments],
            env=self.variables,
            check=False,
            capture_output=True,
            text=True,
        )
        self.assertEqual(done.returncode, 0, done.stderr[-3000:])
        return done.stdout

    @staticmethod
    def _drop(name: str) -> None:
        with connection.cursor() as cursor:
            cursor.execute(f"DROP DATABASE IF EXISTS {name} WITH (FORCE)")
