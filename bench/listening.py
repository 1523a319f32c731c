"""Live listening.

What a stretch costs, how soon an edit is heard in a browser, how many can listen at once.
"""

import json
import os
import struct
import subprocess
import tempfile
import threading
import time
import urllib.parse
import urllib.request
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
import soundfile
from numpy.typing import NDArray

from bench.database import ready
from bench.edits import large_mix
from metaphon.core.demo.mixes import write_demo
from metaphon.core.files.mixdoc import read, with_responses
from metaphon.core.listen.monitor import NOW, Monitor, MonitorSource
from metaphon.core.listen.session import Session
from metaphon.core.spaces.shipped import FOLDER
from metaphon.local.cluster import free_port, port_is_free
from metaphon.local.servers import LISTENING, PAGES, command

_STRETCH = 2048
_EDITS = 24
_LISTEN_S = 8.0
_LONG_S = 30.0
_APART_S = 1.5
_REPORT = 4096  # frames: how often a browser says how far it is (wire.js)
_PLAYER = "import('/static/listen/player.js').then(({ player }) => %s)"
_TAP = Path(__file__).parents[1] / "tests" / "browser" / "tap.js"


def listen() -> Iterator[str]:
    with tempfile.TemporaryDirectory() as folder:
        lamp = write_demo(Path(folder))[0]
        yield from _stretches(lamp)
        before = _stolen_s()
        began = time.monotonic()
        with _served(lamp) as (address, listen_port, mix_id, cookie):
            yield from _edits(address, mix_id)
            yield from _listeners(address, listen_port, mix_id, cookie)
        with _served(_large_document(Path(folder))) as (address, listen_port, mix_id, cookie):
            yield from _large(address, listen_port, mix_id, cookie)
            yield from _levels(address, mix_id)
        share = (_stolen_s() - before) / (time.monotonic() - began) / (os.cpu_count() or 1)
        yield f"other machines took {share:.0%} of the processors meanwhile"


def _large_document(folder: Path) -> Path:
    sound = np.random.default_rng(1).uniform(-0.3, 0.3, 60 * 48000)
    soundfile.write(folder / "noise.wav", sound, 48000, "PCM_16")
    path = folder / "large.mix.json"
    path.write_text(json.dumps(large_mix("noise.wav")))
    return path


def _stolen_s() -> float:
    """Seconds that the machine under this one has given to others.

    What no program here can help.
    """
    first = Path("/proc/stat").read_text().split("\n", 1)[0].split()
    return float(first[8]) / os.sysconf("SC_CLK_TCK")


def _stretches(lamp: Path) -> Iterator[str]:
    """The engine and its meters alone."""
    for target, through in (("0+2+0", "plain"), ("binaural", "plain"), ("4+7+0", "binaural")):
        session = Session(48000)
        session.set_document(NOW, read(lamp))
        session.set_monitor(Monitor.model_validate({"through": through}))
        session.hear("a", MonitorSource(target=target))
        times = []
        for _ in range(300):
            began = time.perf_counter()
            session.take(_STRETCH)
            times.append((time.perf_counter() - began) * 1000.0)
        session.close()
        middle, high = np.percentile(times[10:], [50, 99])
        yield (
            f"a stretch of {target}, {through}: {middle:.1f} ms, 99 % under {high:.0f} "
            f"ms, of {_STRETCH / 48:.0f} ms"
        )


@contextmanager
def _served(lamp: Path) -> Iterator[tuple[str, int, int, str]]:
    """The demo on a server of its own, with somebody signed in.

    Address, port for listening, mix, cookie.
    """
    ready()
    from django.contrib.auth import get_user_model
    from django.test import Client

    from metaphon.web.mixes.models import AudioFile, Member, Mix, discard
    from metaphon.web.mixes.recordings import store
    from metaphon.web.mixes.unpacking import unpack

    with ExitStack() as stack:
        user = get_user_model().objects.create_user(
            "bench of listening", password="a long enough word"
        )
        stack.callback(user.delete)
        document = with_responses(read(lamp), lambda file: FOLDER / file.name)
        mix = Mix.objects.create(title="Bench", sample_rate_hz=document.sample_rate_hz)
        stack.callback(mix.delete)
        Member.objects.create(mix=mix, user=user, role="owner")
        unpack(document, mix, cache(lambda file: store(mix, file, file.name)))
        recordings = AudioFile.objects.filter(mix=mix)
        stack.callback(discard, *(file for audio in recordings for file in audio.stored))
        port = free_port(8700)
        listen_port = free_port(port + 1)
        variables = {**os.environ, "METAPHON_LISTEN_PORT": str(listen_port)}
        variables["METAPHON_ADDRESS"] = f"http://127.0.0.1:{port}"
        for application, on in ((PAGES, port), (LISTENING, listen_port)):
            server = subprocess.Popen(
                command(application, on, "error"), env=variables, start_new_session=True
            )
            stack.callback(server.wait)
            stack.callback(server.terminate)
        while port_is_free(port) or port_is_free(listen_port):
            time.sleep(0.1)
        client = Client()
        client.force_login(user)
        yield f"http://127.0.0.1:{port}", listen_port, mix.pk, client.cookies["sessionid"].value


def _edits(address: str, mix_id: int) -> Iterator[str]:
    """From the key that ends a number to the change in the samples that Chromium plays."""
    source = "{ target: '0+2+0', what: 'stem', strip: 'rain' }"
    with _playing(address, mix_id, source) as page:
        page.evaluate(_TAP.read_text().split("\n", 1)[1])
        before = page.evaluate(_PLAYER % "player.gaps")
        found = []
        for number in range(_EDITS):
            page.wait_for_timeout(900)
            down = number % 2 == 0
            heard = page.evaluate(
                f"untilHeard('Rain gain', '{'-60' if down else '0'}', {0.2 if down else 5})"
            )
            found.append(heard)
        gaps = page.evaluate(_PLAYER % "player.gaps") - before
    times = [t for t in found if t is not None]
    low, middle, high = np.percentile(times, [0, 50, 90])
    yield (
        f"an edit is heard after {middle:.0f} ms (least {low:.0f}, 9 of 10 under "
        f"{high:.0f}, most {max(times):.0f}; asked: 100, at most 250), "
        f"{len(found) - len(times)} of {len(found)} not heard, {gaps} gaps"
    )


def _levels(address: str, mix_id: int) -> Iterator[str]:
    """What the page's scripts cost while 152 levels move, as a part of one processor."""
    with _playing(address, mix_id, "{ target: '0+2+0' }") as page:
        session = page.context.new_cdp_session(page)
        session.send("Performance.enable")

        def seconds() -> dict[str, float]:
            metrics = session.send("Performance.getMetrics")["metrics"]
            return {one["name"]: one["value"] for one in metrics}

        before, gaps = seconds(), page.evaluate(_PLAYER % "player.gaps")
        page.wait_for_timeout(int(_LISTEN_S * 1000))
        after, more = seconds(), page.evaluate(_PLAYER % "player.gaps") - gaps
        moving = page.evaluate(
            "[...document.querySelectorAll('.flowtable .live')]"
            ".filter((one) => one.style.transform && one.style.transform !== 'scaleX(0)').length"
        )
    span = after["Timestamp"] - before["Timestamp"]
    scripts = (after["ScriptDuration"] - before["ScriptDuration"]) / span
    tasks = (after["TaskDuration"] - before["TaskDuration"]) / span
    yield (
        f"live levels of 152 rows, {moving} in sight: scripts {scripts:.0%} of a processor "
        f"(asked: 25), with drawing {tasks:.0%}; {more} gaps in {_LISTEN_S:.0f} s"
    )


@contextmanager
def _playing(address: str, mix_id: int, source: str) -> Iterator[Any]:
    """Flow's table in Chromium, four seconds after it began to play a monitor source."""
    from playwright.sync_api import sync_playwright

    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(
            executable_path="/usr/bin/chromium",
            args=["--no-sandbox", "--disable-gpu", "--autoplay-policy=no-user-gesture-required"],
        )
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(address)
        page.fill("[name=username]", "bench of listening")
        page.fill("[name=password]", "a long enough word")
        page.click("button:has-text('Sign in')")
        page.goto(f"{address}/mix/{mix_id}/flow/?view=table")
        page.wait_for_selector("#listen .play:not([disabled])")
        page.evaluate(_PLAYER % f"player.setMonitorSource({source}, 'a')")
        page.click("#listen .play")
        page.wait_for_timeout(4000)
        yield page
        browser.close()


def _listeners(address: str, port: int, mix_id: int, cookie: str) -> Iterator[str]:
    for count, listen_s in ((1, _LISTEN_S), (2, _LISTEN_S), (4, _LISTEN_S), (12, _LONG_S)):
        gaps: list[int] = []
        loads: list[float] = []
        threads = [
            threading.Thread(
                target=_listener, args=(address, port, mix_id, cookie, n, gaps, loads, listen_s)
            )
            for n in range(count)
        ]
        for thread in threads:
            thread.start()
            time.sleep(_APART_S)  # so that it is known what those before cost
        for thread in threads:
            thread.join()
        yield (
            f"{count} want to listen for {listen_s:.0f} s: {len(gaps)} are let in, each engine "
            f"{np.mean(loads):.0%} of real time, gaps {sum(gaps)} in all"
        )


def _listener(
    address: str,
    port: int,
    mix_id: int,
    cookie: str,
    number: int,
    gaps: list[int],
    loads: list[float],
    listen_s: float,
) -> None:
    target = ("0+2+0", "binaural")[number % 2]
    with _Ears(address, port, mix_id, cookie, {"target": target}, number * 48000) as ears:
        while ears.listened_s < listen_s:
            ears.turn()
            if ears.refused:
                return
        gaps.append(ears.gaps)
        loads.append(ears.load)


class _Ears:
    """Plays as a browser does, by the clock, from 50 ms after the first stretch has come."""

    def __init__(
        self,
        address: str,
        port: int,
        mix_id: int,
        cookie: str,
        monitor_source: dict[str, Any],
        at: int,
    ) -> None:
        from websockets.sync.client import connect

        self._live = connect(
            f"ws://127.0.0.1:{port}/mix/{mix_id}/listen/live",
            origin=address,  # type: ignore[arg-type]
            additional_headers={"Cookie": f"sessionid={cookie}"},
            open_timeout=60,
        )
        state: dict[str, Any] = {
            "monitor_sources": {"a": monitor_source, "b": {}},
            "monitor": {},
            "loop": None,
            "comparing": False,
            "active": "a",
            "matched": True,
        }
        while "ready" not in json.loads(self._live.recv(60)):
            pass
        self._live.send(json.dumps({"state": state}))
        self._live.send(json.dumps({"do": "play", "at": at}))
        self.began: float | None = None  # when the first frame was played, gaps taken off
        self.gaps, self.load, self.refused = 0, 0.0, False
        self._started = 0.0
        self._reached, self._epoch, self._dry, self._said = 0, 0, False, -_REPORT
        self._least = 1 << 30  # frames that were left to play since the last report

    def __enter__(self) -> "_Ears":
        return self

    def __exit__(self, *args: object) -> None:
        self._live.close()

    @property
    def listened_s(self) -> float:
        return time.monotonic() - self._started if self.began is not None else 0.0

    def turn(self) -> tuple[int, NDArray[np.float32]] | None:
        """Take what comes within 10 ms: its place in the stream and its samples (channels,
        frames).
        """
        found = None
        try:
            data = self._live.recv(0.01)
        except TimeoutError:
            data = ""
        if isinstance(data, bytes):
            length = struct.unpack("<I", data[:4])[0]
            header = json.loads(data[4 : 4 + length])
            found = header["stream"], np.frombuffer(data[4 + length :], np.float32)
            found = found[0], found[1].reshape(-1, header["frames"])
            self._reached, self._epoch = header["stream"] + header["frames"], header["epoch"]
            if self.began is None:
                self.began = self._started = time.monotonic() + 0.05
        elif data:
            said = json.loads(data)
            self.load = said.get("load", self.load)
            self.refused = bool(said.get("stopped"))
        if self.began is not None:
            self._report(self.began)
        return found

    def _report(self, began: float) -> None:
        played = int((time.monotonic() - began) * 48000)
        gap = played > self._reached and not self._dry
        self.gaps += gap
        self._dry = played > self._reached
        if self._dry:
            self.began = began + (played - self._reached) / 48000
        frames = max(min(played, self._reached), 0)
        self._least = min(self._least, self._reached - frames)
        if gap or frames >= self._said + _REPORT:
            self._said = frames
            report = {"do": "played", "epoch": self._epoch, "frames": frames, "gaps": int(gap)}
            self._live.send(json.dumps({**report, "least": self._least}))
            self._least = self._reached


def _large(address: str, port: int, mix_id: int, cookie: str) -> Iterator[str]:
    """From an edit without a preview, sent to be kept, to the change in what a listener plays."""
    asked: list[float] = []

    def send(gain_db: float) -> None:
        asked.append(time.monotonic())
        command = {"kind": "set", "strips": ["t2"], "path": "gain_db", "value": gain_db}
        request = urllib.request.Request(
            f"{address}/mix/{mix_id}/flow/edit",
            urllib.parse.urlencode({"command": json.dumps(command)}).encode(),
            {
                "Cookie": f"sessionid={cookie}; csrftoken={'c' * 32}",
                "X-CSRFToken": "c" * 32,
                "HX-Request": "true",
            },
        )
        urllib.request.urlopen(request).read()

    found = []
    source = {"target": "0+2+0", "what": "stem", "strip": "t2"}
    with _Ears(address, port, mix_id, cookie, source, 0) as ears:
        while ears.listened_s < 4.0:
            ears.turn()
        before = ears.gaps
        for number in range(_EDITS):
            sender = threading.Thread(target=send, args=(-60.0 if number % 2 == 0 else 0.0,))
            sender.start()
            heard = None
            while heard is None:
                heard = _changed(ears, loud=number % 2 == 1)
            assert ears.began is not None
            found.append((ears.began + heard / 48000 - asked[-1]) * 1000.0)
            sender.join()
            until = time.monotonic() + 0.6
            while time.monotonic() < until:
                ears.turn()
        gaps = ears.gaps - before
        load = ears.load
    low, middle, high = np.percentile(found, [0, 50, 90])
    yield (
        f"an edit without a preview of 128 tracks, 24 buses, 24 lanes of 4,000 is heard after "
        f"{middle:.0f} ms (least {low:.0f}, 9 of 10 under {high:.0f}; asked: 250), {gaps} gaps, "
        f"engine {load:.0%} of real time"
    )


def _changed(ears: _Ears, loud: bool) -> int | None:
    """The frame of the stream where the sound has become loud or soft, in the next stretch."""
    turn = ears.turn()
    if turn is None:
        return None
    first, block = turn
    steps = np.abs(block[:, : block.shape[1] // 128 * 128]).max(axis=0).reshape(-1, 128).max(axis=1)
    places = np.flatnonzero((steps > 0.01) == loud)
    return first + int(places[0]) * 128 if len(places) else None
