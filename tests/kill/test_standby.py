"""The database dies and its standby takes its place, by PostgreSQL's own streaming replication.

Commits wait for the standby, so nothing that was answered is lost (PostgreSQL's documentation,
26.2.8, synchronous replication); processes know both by their address and go on with the one that
takes writes.
"""

import os
import re
import shutil
import signal
import subprocess
import tempfile
import unittest
from pathlib import Path

import psycopg

from metaphon.local.cluster import Cluster, free_port
from tests.browser.server import end, wait_for
from tests.kill.test_kill import FORMATS, Installation


class Standby(unittest.TestCase):
    databases = {"default"}

    def setUp(self) -> None:
        if os.environ.get("METAPHON_LONG") != "1":
            self.skipTest("runs with --long")
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.cluster = Cluster(self.folder / "first")
        self.cluster.__enter__()
        self.data = (self.cluster._data).resolve()
        self.addCleanup(shutil.rmtree, self.data, ignore_errors=True)
        self.addCleanup(self.kill)
        self.second = self.data.with_name(f"{self.data.name}-standby")
        self.addCleanup(shutil.rmtree, self.second, ignore_errors=True)
        self.second.mkdir(mode=0o700)
        if os.geteuid() == 0:
            shutil.chown(self.second, "postgres", "postgres")
        self.port = free_port(self.cluster.port + 1)
        told = ["-h", "127.0.0.1", "-p", str(self.cluster.port), "-U", "metaphon", "-w"]
        self.run_("pg_basebackup", *told, "-D", str(self.second), "-R", "-X", "stream")
        self.run_("pg_ctl", "start", "-w", "-D", str(self.second), *self.options())
        self.addCleanup(self.run_, "pg_ctl", "stop", "-m", "immediate", "-D", str(self.second))
        with psycopg.connect(self.cluster.url, autocommit=True) as connection:
            connection.execute("alter system set synchronous_standby_names = '*'")
            connection.execute("select pg_reload_conf()")
            wait_for(
                lambda: connection.execute(
                    "select 1 from pg_stat_replication where sync_state = 'sync'"
                ).fetchone()
            )

    def options(self) -> list[str]:
        return ["-l", str(self.second / "server.log"), "-o", f"-p {self.port}"]

    def run_(self, program: str, *arguments: str) -> None:
        command = [str(self.cluster._bin / program), *arguments]
        if os.geteuid() == 0:
            command = ["runuser", "-u", "postgres", "--", *command]
        variables = {**os.environ, "PGPASSWORD": self.cluster._password()}
        done = subprocess.run(command, env=variables, cwd="/", capture_output=True, check=False)
        self.assertEqual(done.returncode, 0, done.stderr.decode())

    def kill(self) -> None:
        """The first server at once, with all that it runs."""
        pid = self.data / "postmaster.pid"
        if pid.exists():
            os.killpg(int(pid.read_text().splitlines()[0]), signal.SIGKILL)
            pid.unlink()

    def test_the_standby_takes_over(self) -> None:
        ports = f"{self.cluster.port},{self.port}"
        one = Installation(
            self.folder / "own",
            METAPHON_DATABASE_URL=f"postgres://metaphon:{self.cluster._password()}@/metaphon"
            f"?host=127.0.0.1,127.0.0.1&port={ports}&target_session_attrs=read-write",
            METAPHON_STORAGE=str(self.folder / "storage"),
            METAPHON_UPLOADS=str(self.folder / "storage" / "scratch"),
        )
        self.addCleanup(end, one.main)
        one.sign_in()
        lamp = one.mix("The Lamp at Skerrow")
        kept = one.edit(lamp, kind="add_bus", name="Kept", layout="0+2+0")
        self.assertEqual(kept[0], 200)
        self.kill()
        self.run_("pg_ctl", "promote", "-w", "-D", str(self.second))
        table = f"/mix/{lamp}/flow/?view=table"
        one.until(lambda: "Kept" in one.get(table)[1])
        one.until(lambda: one.get("/health")[0] == 200)
        more = one.edit(lamp, kind="add_bus", name="More", layout="0+2+0")
        self.assertEqual(more[0], 200)
        said = one.post(f"/mix/{lamp}/handover/render", bits="24", targets=FORMATS)[1]
        look = re.search(rf"/mix/{lamp}/handover/render/\d+", said)
        assert look, said
        asked = {"HX-Request": "true"}
        one.until(lambda: "Report" in one.get(look[0], **asked)[1], 120.0)
