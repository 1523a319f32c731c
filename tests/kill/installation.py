"""An installation of its own by `bin/start`, and people in front of it, by plain requests."""

import http.cookiejar
import json
import os
import re
import signal
import subprocess
import sys
import time
import urllib.error
import urllib.parse
import urllib.request
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any

from websockets.exceptions import WebSocketException
from websockets.sync.client import connect

from metaphon.local.cluster import free_port

FORMATS = ["0+2+0", "0+5+0", "binaural"]  # of the demo mix
_BACK_WITHIN_S = 30.0


class Person:
    """Somebody with a browser of their own, as far as addresses and cookies go."""

    def __init__(self, port: int) -> None:
        self.port = port
        self._cookies = http.cookiejar.CookieJar()
        self._open = urllib.request.build_opener(
            urllib.request.HTTPCookieProcessor(self._cookies)
        ).open

    def sign_in(self, name: str = "demo", password: str = "harbour-lamp") -> None:
        """Sign in, again and again where many do at once (503)."""
        self.get("/sign-in")
        self.until(lambda: self.post("/sign-in", username=name, password=password)[0] != 503, 120.0)
        assert 'name="password"' not in self.get("/")[1], f"{name} is not signed in"

    def until(self, ready: Callable[[], Any], seconds: float = _BACK_WITHIN_S) -> None:
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            with suppress(OSError):
                if ready():
                    return
            time.sleep(0.1)
        raise AssertionError("this did not come back in time")

    def get(self, path: str, **headers: str) -> tuple[int, str]:
        return self.send("GET", path, None, headers)[:2]

    def post(self, path: str, **data: str | list[str]) -> tuple[int, str]:
        body = urllib.parse.urlencode(data, doseq=True).encode()
        return self.send("POST", path, body, {"HX-Request": "true"})[:2]

    def send(
        self, method: str, path: str, body: bytes | None, headers: dict[str, str]
    ) -> tuple[int, str, Any]:
        """Status, what was said, and the headers. OSError where nobody answers."""
        token = next((c.value for c in self._cookies if c.name == "csrftoken"), "") or ""
        request = urllib.request.Request(
            f"http://127.0.0.1:{self.port}{path}",
            body,
            {"X-CSRFToken": token, "Referer": f"http://127.0.0.1:{self.port}/", **headers},
            method=method,
        )
        try:
            answer = self._open(request, timeout=40)
        except urllib.error.HTTPError as error:
            answer = error
        with answer:
            told = answer.read().decode(errors="replace")
            return answer.status, told or answer.headers.get("HX-Trigger", ""), answer.headers

    def edit(self, mix: int, **command: object) -> tuple[int, str]:
        return self.post(f"/mix/{mix}/flow/edit", command=json.dumps(command))

    def mix(self, title: str) -> int:
        page = self.get("/")[1]
        found = re.search(rf'href="/mix/(\d+)/">{title}<', page)
        assert found, "the mix is not in the list"
        return int(found[1])

    def listen(self, mix: int, port: int) -> Any:
        """A connection for listening, by the server at `port`."""
        cookies = "; ".join(f"{c.name}={c.value}" for c in self._cookies)
        return connect(
            f"ws://127.0.0.1:{port}/mix/{mix}/listen/live",
            additional_headers={"Cookie": cookies},
            origin=f"http://127.0.0.1:{self.port}",  # type: ignore[arg-type]
            open_timeout=60,
        )


class Installation(Person):
    """`bin/start` on a folder of its own, and a person in front of it."""

    def __init__(self, local: Path, **variables: str) -> None:
        super().__init__(free_port(8900))
        self.listen_port = self.port + 1
        self.variables = {**os.environ, "METAPHON_LOCAL": str(local), **variables}
        for taken in ("METAPHON_DATABASE_URL", "METAPHON_STORAGE", "METAPHON_UPLOADS"):
            if taken not in variables:
                self.variables.pop(taken, None)  # those of the tests
        self.begin()

    def begin(self) -> None:
        command = [sys.executable, "-m", "metaphon.local.serve", "--port", str(self.port)]
        self.main = subprocess.Popen(command, env=self.variables, start_new_session=True)
        self.until(lambda: self.get("/health")[0] == 200, 300.0)

    def run_python(self, source: str) -> str:
        """What a piece of Python prints that is run with the application set up."""
        told = subprocess.run(
            [sys.executable, "-m", "metaphon.local.run", "python", "-m", "django", "shell"],
            input=source,
            env=self.variables,
            check=True,
            capture_output=True,
            text=True,
        )
        return told.stdout

    def pids(self, words: str = "") -> list[int]:
        """The processes of this installation whose command line has these words."""
        found = []
        for folder in Path("/proc").glob("[0-9]*"):
            with suppress(OSError):
                line = (folder / "cmdline").read_text().replace("\0", " ")
                mine = self.variables["METAPHON_LOCAL"] in (folder / "environ").read_text()
                if words in line and mine:
                    found.append(int(folder.name))
        return found

    def kill(self, words: str) -> None:
        pids = self.pids(words)
        assert pids, f"no process has {words}"
        for pid in pids:
            os.kill(pid, signal.SIGKILL)

    def kill_database(self) -> None:
        [data] = Path(self.variables["METAPHON_LOCAL"]).glob("postgresql-[0-9]*")
        os.kill(int((data / "postmaster.pid").read_text().split()[0]), signal.SIGKILL)

    def hears(self, mix: int) -> bool:
        """Whether the server for listening lets somebody in and has its engine ready."""
        with suppress(WebSocketException), self.listen(mix, self.listen_port) as live:
            return "ready" in json.loads(live.recv(20))
        return False

    def end(self) -> None:
        self.main.terminate()
        with suppress(subprocess.TimeoutExpired):
            self.main.wait(20)
