"""Thirty editors and twenty listeners come and go for half an hour.

Nothing that was answered is lost, each takes back what was their own, and memory, processes and
open files stay as they were.
"""

import json
import os
import random
import tempfile
import threading
import time
import unittest
from collections import Counter
from contextlib import suppress
from pathlib import Path
from statistics import median
from typing import Any

from websockets.exceptions import WebSocketException

from metaphon.local.cluster import Cluster
from tests.kill.installation import Installation, Person
from tests.sounds import RATE_HZ

_MINUTES = float(os.environ.get("METAPHON_SOAK_MINUTES", "30"))
_MIXES, _EDITORS, _LISTENERS = 5, 30, 20
_PASSWORD = "a long enough word"
_MORE = 1.15  # what the last quarter may take of what the second took
_PAGES = ("flow/?view=table", "flow/", "intake/", "field/", "handover/", "history", "listen/")

_PEOPLE = f"""
from django.contrib.auth import get_user_model
from metaphon.web.mixes.models import Member, Mix
mixes = list(Mix.objects.order_by("pk"))
for role, count in (("editor", {_EDITORS}), ("listener", {_LISTENERS})):
    for number in range(count):
        user = get_user_model().objects.create_user(f"{{role}}{{number}}", password="{_PASSWORD}")
        Member.objects.create(mix=mixes[number % len(mixes)], user=user, role=role)
"""
_GAINS = """
import json
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.snapshots import document_of
buses = [bus for mix in Mix.objects.all() for bus in document_of(mix).buses]
print(json.dumps({bus.name: bus.gain_db for bus in buses}))
"""


class Editor:
    """Has a bus of their own in a mix that others edit too, and knows what it must be set to."""

    def __init__(self, here: Installation, mix: int, number: int) -> None:
        self.person, self.mix = Person(here.port), mix
        self.name, self.user = f"Of editor {number}", f"editor{number}"
        self.strip = f"of_editor_{number}"
        self._choices = random.Random(number)
        self._done = [0.0]  # gains, the last one is what it must be
        self._undone: list[float] = []
        self.edits = 0
        self.faults: list[str] = []

    @property
    def gain_db(self) -> float:
        return self._done[-1]

    def begin(self) -> None:
        self.person.sign_in(self.user, _PASSWORD)
        status, said = self.person.edit(self.mix, kind="add_bus", name=self.name, layout="0+2+0")
        assert status == 200, said

    def work(self, until: float) -> None:
        while time.monotonic() < until:
            try:
                self._do_something()
            except Exception as error:  # each is told at the end
                self.faults.append(repr(error))
            time.sleep(self._choices.uniform(0.5, 3.0))

    def _do_something(self) -> None:
        what = self._choices.random()
        if what < 0.4:
            gain_db = round(self._choices.uniform(-60.0, 12.0), 3)
            status, said = self.person.edit(
                self.mix, kind="set", strips=[self.strip], path="gain_db", value=gain_db
            )
            if status == 200:
                self._done.append(gain_db)
                self._undone = []
        elif what < 0.55 and len(self._done) > 1:
            status, said = self.person.post(f"/mix/{self.mix}/undo")
            if status == 200:
                self._undone.append(self._done.pop())
        elif what < 0.65 and self._undone:
            status, said = self.person.post(f"/mix/{self.mix}/redo")
            if status == 200:
                self._done.append(self._undone.pop())
        elif what < 0.95:
            page = self._choices.choice(_PAGES)
            status, said = self.person.get(f"/mix/{self.mix}/{page}")
        else:
            self.person.post("/sign-out")
            self.person = Person(self.person.port)
            self.person.sign_in(self.user, _PASSWORD)
            status, said = self.person.get("/")
        self.edits += 1
        if status != 200:
            self.faults.append(f"{status}: {said[:200]}")


class Hearer:
    """Listens for a while, leaves in the middle of a sound, and comes back."""

    def __init__(self, here: Installation, mix: int, number: int) -> None:
        self.person, self.mix, self.port = Person(here.port), mix, here.listen_port
        self.user = f"listener{number}"
        self._choices = random.Random(1000 + number)
        self.heard = 0
        self.faults: list[str] = []

    def begin(self) -> None:
        self.person.sign_in(self.user, _PASSWORD)

    def work(self, until: float) -> None:
        while time.monotonic() < until:
            try:
                self._listen(min(until, time.monotonic() + self._choices.uniform(2.0, 40.0)))
            except (OSError, WebSocketException) as error:
                self.faults.append(repr(error))
            time.sleep(self._choices.uniform(0.5, 10.0))

    def _listen(self, until: float) -> None:
        with self.person.listen(self.mix, self.port) as live:
            while "ready" not in json.loads(live.recv(60)):
                pass
            live.send(json.dumps({"do": "play", "at": self._choices.randrange(20 * RATE_HZ)}))
            began = 0.0
            while time.monotonic() < until:
                data: bytes | str = ""
                with suppress(TimeoutError):
                    data = live.recv(0.1)
                if isinstance(data, bytes):
                    self.heard += 1
                    began = began or time.monotonic()
                    self._report(live, data, began)

    @staticmethod
    def _report(live: Any, stretch: bytes, began: float) -> None:
        """Say how much was played, as a page does."""
        header = json.loads(stretch[4 : 4 + int.from_bytes(stretch[:4], "little")])
        reached = header["stream"] + header["frames"]
        frames = min(int((time.monotonic() - began) * RATE_HZ), reached)
        report = {"do": "played", "epoch": header["epoch"], "frames": frames, "gaps": 0}
        live.send(json.dumps({**report, "least": reached - frames}))


def footprint(here: Installation) -> dict[str, int]:
    """Memory (each shared page once), processes and open files of an installation."""
    sizes = {"memory_kb": 0, "processes": 0, "open_files": 0}
    for pid in here.pids():
        with suppress(OSError):
            told = Path(f"/proc/{pid}/smaps_rollup").read_text()
            share = next(line for line in told.splitlines() if line.startswith("Pss:"))
            sizes["open_files"] += sum(1 for _ in Path(f"/proc/{pid}/fd").iterdir())
            sizes["memory_kb"] += int(share.split()[1])
            sizes["processes"] += 1
    return sizes


class Soak(unittest.TestCase):
    databases = {"default"}

    def setUp(self) -> None:
        if os.environ.get("METAPHON_LONG") != "1":
            self.skipTest("runs with --long")
        local = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.here = Installation(local)
        self.addCleanup(Cluster(local).remove)
        self.addCleanup(lambda: self.here.end())
        self.here.sign_in()
        lamp = self.here.mix("The Lamp at Skerrow")
        while len(self._mixes()) < _MIXES:
            self.here.post(f"/mix/{lamp}/duplicate")
        self.here.run_python(_PEOPLE)

    def _mixes(self) -> list[int]:
        told = self.here.run_python(
            "from metaphon.web.mixes.models import Mix\n"
            "print(list(Mix.objects.order_by('pk').values_list('pk', flat=True)))"
        )
        numbers: list[int] = json.loads(told.splitlines()[-1])
        return numbers

    def test_half_an_hour_with_fifty_people(self) -> None:
        mixes = self._mixes()
        editors = [Editor(self.here, mixes[n % len(mixes)], n) for n in range(_EDITORS)]
        hearers = [Hearer(self.here, mixes[n % len(mixes)], n) for n in range(_LISTENERS)]
        everybody: list[Editor | Hearer] = [*editors, *hearers]
        for one in everybody:
            one.begin()
        alone = footprint(self.here)
        until = time.monotonic() + 60.0 * _MINUTES
        threads = [threading.Thread(target=one.work, args=(until,)) for one in everybody]
        for thread in threads:
            thread.start()
        taken = []
        while time.monotonic() < until:
            taken.append(footprint(self.here))
            time.sleep(5.0)
        for thread in threads:
            thread.join()
        faults = Counter(fault[:160] for one in everybody for fault in one.faults)
        self.assertEqual(faults, {})
        self.assertGreater(min(one.edits for one in editors), 5.0 * _MINUTES)
        self.assertGreater(sum(one.heard for one in hearers), 100.0 * _MINUTES)
        # nothing was lost, and undo took back what was one's own
        gains = json.loads(self.here.run_python(_GAINS).splitlines()[-1])
        for one in editors:
            self.assertEqual(gains[one.name], one.gain_db, one.name)
        # what it took is what it takes
        quarter = len(taken) // 4
        for what in ("memory_kb", "open_files", "processes"):
            early = median(one[what] for one in taken[quarter : 2 * quarter])
            late = median(one[what] for one in taken[-quarter:])
            print(f"{what}: {alone[what]} alone, {early:.0f} early, {late:.0f} late")
            self.assertLess(late, early * _MORE, what)
        self.here.until(lambda: footprint(self.here)["processes"] <= alone["processes"], 60.0)
        left = footprint(self.here)
        self.assertLessEqual(left["open_files"], alone["open_files"] + 10 * _MIXES)
