"""An installation of its own, each part of it killed in the middle of work.

After each: nothing that was answered is lost, it is back by itself, and the person was told.
"""

import base64
import json
import os
import re
import signal
import subprocess
import tempfile
import time
import unittest
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from websockets.exceptions import WebSocketException

from metaphon.core.errors import DISK_FULL
from metaphon.local.cluster import Cluster, port_is_free
from metaphon.web.shell.faults import UNREACHABLE
from tests.kill.installation import FORMATS, Installation
from tests.sounds import noise
from tests.web.base import recording

_SMALL_DISK_MB = 240
_TUS = {"Tus-Resumable": "1.0.0"}


class Killed(unittest.TestCase):
    """One after the other in one process: each looks for ports that are free."""

    databases = {"default"}

    @classmethod
    def setUpClass(cls) -> None:
        if os.environ.get("METAPHON_LONG") != "1":
            raise unittest.SkipTest("runs with --long")
        cls.local = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        cls.here = Installation(cls.local)
        cls.addClassCleanup(Cluster(cls.local).remove)
        cls.addClassCleanup(lambda: cls.here.end())
        cls.here.sign_in()
        cls.lamp = cls.here.mix("The Lamp at Skerrow")

    def ready(self) -> None:
        self.here.until(lambda: self.here.get("/health")[0] == 200)

    def test_pages_in_the_middle_of_an_upload(self) -> None:
        whole = recording(noise(2, 4.0))
        name = base64.b64encode(b"Killed.wav").decode()
        told = {
            **_TUS,
            "Upload-Length": str(len(whole)),
            "Upload-Metadata": f"filename {name}",
        }
        address = f"/mix/{self.lamp}/intake/arrivals"
        place = self.here.send("POST", address, b"", {**_TUS, **told})[2]["Location"]
        half = len(whole) // 2

        def piece(at: int, data: bytes) -> int:
            headers = {"Upload-Offset": str(at), "Content-Type": "application/offset+octet-stream"}
            return self.here.send("PATCH", place, data, {**_TUS, **headers})[0]

        self.assertEqual(piece(0, whole[:half]), 204)
        self.here.kill("metaphon.web.asgi")
        with suppress(OSError):
            piece(half, whole[half:])
        self.ready()
        there = int(self.here.send("HEAD", place, None, dict(_TUS))[2]["Upload-Offset"])
        self.assertIn(there, (half, len(whole)))  # what was answered is there
        if there == half:
            self.assertEqual(piece(half, whole[half:]), 204)
        shown = f"/mix/{self.lamp}/intake/"
        self.here.until(lambda: "Killed" in self.here.get(shown)[1])

    def test_the_database_in_the_middle_of_edits(self) -> None:
        kept, told = [], []
        for number in range(60):
            if number == 20:
                self.here.kill_database()
            status, said = self.here.edit(
                self.lamp, kind="add_bus", name=f"Bus {number}", layout="0+2+0"
            )
            if status == 200:
                kept.append(f"Bus {number}")
            else:
                told.append((status, said))
                time.sleep(0.5)
            if told and kept[-1:] == [f"Bus {number}"]:
                break
        self.assertGreaterEqual(len(kept), 20)
        self.assertTrue(all(status == 503 and UNREACHABLE in said for status, said in told), told)
        self.ready()
        page = self.here.get(f"/mix/{self.lamp}/flow/?view=table")[1]
        for name in kept:
            self.assertIn(f">{name}<", re.sub(r"\s*([<>])\s*", r"\1", page))

    def test_the_worker_in_the_middle_of_a_render(self) -> None:
        started = self.here.post(f"/mix/{self.lamp}/handover/render", bits="24", targets=FORMATS)
        self.assertEqual(started[0], 200)
        number = re.search(rf"/mix/{self.lamp}/handover/render/(\d+)", started[1])
        assert number
        look = f"/mix/{self.lamp}/handover/render/{number[1]}"

        def shows(words: str) -> Callable[[], bool]:
            return lambda: words in self.here.get(look, **{"HX-Request": "true"})[1]

        self.here.until(shows("Rendering"))
        self.here.kill("django work")
        self.here.until(shows("Rendering"))  # by another
        self.here.until(shows("Report"), 120.0)

    def test_database_and_worker_in_the_middle_of_each_kind_of_work(self) -> None:
        """In both orders, and the database alone: all of it is done in the end, or can be ended."""
        orders = (
            (self.here.kill_database,),
            (self.here.kill_database, lambda: self.here.kill("django work")),
            (lambda: self.here.kill("django work"), self.here.kill_database),
        )
        for order in orders:
            started = self.here.post(
                f"/mix/{self.lamp}/handover/render", bits="24", targets=FORMATS
            )
            found = re.search(rf"/mix/{self.lamp}/handover/render/(\d+)", started[1])
            assert found, started
            look = f"/mix/{self.lamp}/handover/render/{found[1]}"

            def shows(words: str, look: str = look) -> Callable[[], bool]:
                return lambda: words in self.here.get(look, **{"HX-Request": "true"})[1]

            self.here.until(shows("Rendering"))
            for kill in order:
                kill()
            self.ready()
            self.here.until(shows("Report"), 180.0)

    def test_the_worker_in_the_middle_of_a_print(self) -> None:
        printed = self.here.post(f"/mix/{self.lamp}/flow/print", ids="rain,gull,horn", rest="on")
        self.assertEqual(printed[0], 200, printed[1])
        time.sleep(0.7)
        self.here.kill("django work")
        table = f"/mix/{self.lamp}/flow/?view=table"
        self.here.until(lambda: "take 1" in self.here.get(table)[1], 60.0)

    def test_listening_and_its_engine(self) -> None:
        for victim in ("metaphon.web.listen.asgi", "multiprocessing.forkserver"):
            with self.here.listen(self.lamp, self.here.listen_port) as live:
                while "ready" not in json.loads(live.recv(30)):
                    pass
                live.send(json.dumps({"do": "play", "at": 0}))
                live.recv(20)
                self.here.kill(victim)
                said = []
                with self.assertRaises((WebSocketException, OSError)):
                    while True:
                        said.append(live.recv(20))
                if victim.startswith("multiprocessing"):
                    self.assertIn("Listening broke off; it begins again.", str(said[-1]))

            self.here.until(lambda: self.here.hears(self.lamp))
        self.ready()

    def test_all_of_it(self) -> None:
        self.here.edit(self.lamp, kind="add_bus", name="Kept to the last", layout="0+2+0")
        os.kill(self.here.main.pid, signal.SIGKILL)
        self.here.main.wait()
        self.here.until(lambda: port_is_free(self.here.port) and port_is_free(self.here.port + 1))
        self.here.until(lambda: not self.here.pids("django work"))
        self.here.begin()
        page = self.here.get(f"/mix/{self.lamp}/flow/?view=table")[1]
        self.assertIn("Kept to the last", page)

    def test_a_full_disk_is_said_and_work_goes_on_when_there_is_room(self) -> None:
        if os.geteuid() != 0:
            self.skipTest("only root may make a small disk")
        local = Path(self.enterContext(tempfile.TemporaryDirectory()))
        disk = local / "disk"
        disk.mkdir()
        small = ["mount", "-t", "tmpfs", "-o", f"size={_SMALL_DISK_MB}m", "tmpfs", str(disk)]
        if subprocess.run(small, check=False, capture_output=True).returncode:
            self.skipTest("no disk can be mounted here")
        self.addCleanup(subprocess.run, ["umount", "-l", str(disk)], check=False)
        here = Installation(local, METAPHON_STORAGE=str(disk), METAPHON_RESERVED_GB="0")
        self.addCleanup(Cluster(local).remove)
        self.addCleanup(here.end)
        here.sign_in()
        mix = here.mix("The Lamp at Skerrow")
        filler = disk / "filler"
        with filler.open("wb") as file, suppress(OSError):
            while True:
                file.write(bytes(1 << 16))
        started = here.post(f"/mix/{mix}/handover/render", bits="24", targets=FORMATS)
        number = re.search(rf"/mix/{mix}/handover/render/(\d+)", started[1])
        assert number
        look = f"/mix/{mix}/handover/render/{number[1]}"

        def shows(*words: str) -> Callable[[], bool]:
            return lambda: any(w in here.get(look, **{"HX-Request": "true"})[1] for w in words)

        here.until(shows(DISK_FULL, "there is room for"), 60.0)
        length = {**_TUS, "Upload-Length": "9000000"}
        status, said, _ = here.send("POST", f"/mix/{mix}/intake/arrivals", b"", length)
        self.assertEqual(status, 422)
        self.assertIn("there is room for", said)
        self.assertEqual(here.edit(mix, kind="rename_mix", title="The Lamp at Skerrow")[0], 200)
        filler.unlink()
        self.assertEqual(here.post(f"{look}/retry")[0], 200)
        page = f"/mix/{mix}/handover/"
        here.until(lambda: "Report" in here.get(page)[1], 90.0)
