"""Three machines: each with pages, listening and a worker, and a folder of its own.

They share a database and a bucket, nothing else. One of each is killed; nothing that was answered
is lost, and nobody waits longer than it takes another machine to take over.
"""

import json
import os
import re
import secrets
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

import boto3
from moto.server import ThreadedMotoServer
from websockets.exceptions import WebSocketException

from metaphon.local.cluster import Cluster, free_port, port_is_free
from metaphon.local.servers import LISTENING, PAGES, WORK, command
from tests.browser.server import end, wait_for
from tests.kill.installation import FORMATS, Person
from tests.sounds import noise
from tests.web.base import recording

_COUNT = 3
_TAKEN_OVER_S = 40.0  # 12 s until a worker counts as dead, and the part that is done again
_TUS = {"Tus-Resumable": "1.0.0"}


class Pages(Person):
    """A person in front of several servers of pages, signed in once."""

    def __init__(self, ports: list[int]) -> None:
        super().__init__(ports[0])
        self.ports = ports

    def by(self, number: int) -> "Pages":
        """Go on by another server."""
        self.port = self.ports[number]
        return self

    def hears(self, port: int, mix: int) -> bool:
        """Whether sound comes from a server for listening."""
        with self.listen(mix, port) as live:
            while "ready" not in json.loads(live.recv(60)):
                pass
            live.send(json.dumps({"do": "play", "at": 0}))
            for _ in range(20):
                if isinstance(live.recv(60), bytes):
                    return True
        return False


class Machines(unittest.TestCase):
    databases = {"default"}

    @classmethod
    def setUpClass(cls) -> None:
        if os.environ.get("METAPHON_LONG") != "1":
            raise unittest.SkipTest("runs with --long")
        folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        cluster = cls.enterClassContext(Cluster(folder))
        cls.addClassCleanup(cluster.remove)
        bucket = ThreadedMotoServer("127.0.0.1", 0, verbose=False)
        bucket.start()
        cls.addClassCleanup(bucket.stop)
        host, port = bucket.get_host_and_port()
        cls.bucket = boto3.resource(
            "s3",
            endpoint_url=f"http://{host}:{port}",
            aws_access_key_id="key",
            aws_secret_access_key="secret",
            region_name="us-east-1",
        ).create_bucket(Bucket="machines")
        cls.ports, cls.listening = [], []
        for _ in range(_COUNT):
            for ports in (cls.ports, cls.listening):
                ports.append(free_port(max([9100, *cls.ports, *cls.listening]) + 1))
        shared = {
            **os.environ,
            "DJANGO_SETTINGS_MODULE": "metaphon.web.settings",
            "METAPHON_DATABASE_URL": cluster.url,
            "METAPHON_SECRET_KEY": secrets.token_urlsafe(48),
            "METAPHON_ADDRESS": ",".join(f"http://127.0.0.1:{port}" for port in cls.ports),
            "METAPHON_LISTEN_PORT": ",".join(map(str, cls.listening)),
            "METAPHON_DEMO": "true",
            "METAPHON_BUCKET": "machines",
            "METAPHON_BUCKET_ADDRESS": f"http://{host}:{port}",
            "METAPHON_BUCKET_KEY": "key",
            "METAPHON_BUCKET_SECRET": "secret",
        }
        cls.processes: dict[str, subprocess.Popen[bytes]] = {}
        cls.folders = [folder / f"machine {number}" for number in range(_COUNT)]
        for number, own in enumerate(cls.folders):
            (own / "scratch").mkdir(parents=True)
            variables = {
                **shared,
                "METAPHON_STORAGE": str(own),
                "METAPHON_UPLOADS": str(own / "scratch"),
            }
            if not number:
                for what in (["migrate", "--verbosity", "0"], ["demo"]):
                    subprocess.run(
                        [sys.executable, "-m", "django", *what], env=variables, check=True
                    )
            for name, arguments in (
                ("pages", command(PAGES, cls.ports[number])),
                ("listening", command(LISTENING, cls.listening[number])),
                ("worker", WORK),
            ):
                child = subprocess.Popen(arguments, env=variables, start_new_session=True)
                cls.processes[f"{name} {number}"] = child
                cls.addClassCleanup(end, child)
        for port in (*cls.ports, *cls.listening):
            wait_for(lambda port=port: not port_is_free(port))
        cls.pages = Pages(cls.ports)
        cls.pages.until(lambda: cls.pages.get("/health")[0] == 200, 90.0)
        cls.pages.sign_in()
        cls.lamp = cls.pages.mix("The Lamp at Skerrow")

    def kill(self, name: str) -> None:
        self.processes[name].kill()
        self.processes[name].wait()

    def rendered(self, by: int) -> tuple[int, str]:
        """Ask for a render by one of the servers; its number and where to look at it."""
        status, said = self.pages.by(by).post(
            f"/mix/{self.lamp}/handover/render", bits="24", targets=FORMATS, stems="tracks 0+2+0"
        )
        self.assertEqual(status, 200, said)
        found = re.search(rf"/mix/{self.lamp}/handover/render/(\d+)", said)
        assert found
        return int(found[1]), found[0]

    def shows(self, look: str, words: str) -> bool:
        return words in self.pages.get(look, **{"HX-Request": "true"})[1]

    def digests(self, look: str) -> list[str]:
        return re.findall(r"\b[0-9a-f]{64}\b", self.pages.get(f"{look}/report")[1])

    def test_one_of_each_is_killed(self) -> None:
        pages = self.pages
        # a recording by two servers of pages, the first of which is killed in between
        whole = recording(noise(2, 2.0))
        told = {**_TUS, "Upload-Length": str(len(whole)), "Upload-Metadata": "filename S2lsbA=="}
        address = f"/mix/{self.lamp}/intake/arrivals"
        place = pages.by(0).send("POST", address, b"", told)[2]["Location"]
        half = len(whole) // 2
        for number, at, piece in ((0, 0, whole[:half]), (1, half, whole[half:])):
            headers = {"Upload-Offset": str(at), "Content-Type": "application/offset+octet-stream"}
            answer = pages.by(number).send("PATCH", place, piece, {**_TUS, **headers})
            self.assertEqual(answer[0], 204, answer[1])
            if not number:
                kept = pages.edit(self.lamp, kind="add_bus", name="Kept", layout="0+2+0")
                self.assertEqual(kept[0], 200)
                self.kill("pages 0")
        table = f"/mix/{self.lamp}/flow/?view=table"
        pages.until(lambda: "Kill" in pages.by(2).get(table)[1])
        self.assertIn("Kept", pages.get(table)[1])
        # listening: the next server plays what was brought in by the others
        self.assertTrue(pages.hears(self.listening[0], self.lamp))
        self.kill("listening 0")
        with self.assertRaises((OSError, WebSocketException)):
            pages.hears(self.listening[0], self.lamp)
        began = time.monotonic()
        self.assertTrue(pages.hears(self.listening[1], self.lamp))
        self.assertLess(time.monotonic() - began, _TAKEN_OVER_S)
        # a render by three workers, one of which is killed in the middle
        _, look = self.rendered(1)
        pages.until(lambda: self.shows(look, "Rendering"))
        time.sleep(3.0)
        self.kill("worker 0")
        pages.until(lambda: self.shows(look, "Report"), 180.0)
        found = self.digests(look)
        _, again = self.rendered(2)
        pages.until(lambda: self.shows(again, "Report"), 180.0)
        self.assertEqual(self.digests(again), found)
        self.assertEqual(len(found), 3)
        left = {one.key for one in self.bucket.objects.all() if one.key.startswith("scratch")}
        self.assertEqual(left, set())
        # what is left answers for all
        self.assertEqual(pages.by(2).get("/health")[0], 503)  # it says that one does not listen
