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
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import Any

import numpy as np

from bench.database import ready
from metaphon.core.demo.mixes import write_demo
from metaphon.core.files.mixdoc import read
from metaphon.core.listen.monitor import NOW, Monitor, MonitorSource
from metaphon.core.listen.session import Session
from metaphon.local.cluster import free_port, port_is_free
from metaphon.local.servers import LISTENING, PAGES, command

_STRETCH = 2048
_EDITS = 24
_LISTEN_S = 8.0
_REPORT = 4096  # frames: how often a browser says how far it is (wire.js)
_TAP = Path(__file__).parents[1] / "tests" / "browser" / "tap.js"


def listen() -> Iterator[str]:
    with tempfile.TemporaryDirectory() as folder:
        lamp = write_demo(Path(folder))[0]
        yield from _stretches(lamp)
        before = _stolen_s()
        began = time.monotonic()
        with _served(lamp) as (address, listen_port, mix_id, cookie):
            yield from _edits(address, mix_id)
            yield from _listeners(listen_port, mix_id, cookie)
        share = (_stolen_s() - before) / (time.monotonic() - began) / (os.cpu_count() or 1)
        yield f"other machines took {share:.0%} of the processors meanwhile"


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

    from metaphon.web.intake.recordings import store
    from metaphon.web.mixes.models import AudioFile, Member, Mix, discard
    from metaphon.web.mixes.unpacking import unpack

    with ExitStack() as stack:
        user = get_user_model().objects.create_user(
            "bench of listening", password="a long enough word"
        )
        stack.callback(user.delete)
        document = read(lamp)
        mix = Mix.objects.create(title="Bench", sample_rate_hz=document.sample_rate_hz)
        stack.callback(mix.delete)
        Member.objects.create(mix=mix, user=user, role="owner")
        unpack(document, mix, lambda file: store(mix, file, file.name))
        stack.callback(discard, *(audio.file for audio in AudioFile.objects.filter(mix=mix)))
        port = free_port(8700)
        listen_port = free_port(port + 1)
        variables = {**os.environ, "METAPHON_LISTEN_PORT": str(listen_port)}
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
        player = "import('/static/listen/player.js').then(({ player }) => %s)"
        page.evaluate(
            player % "player.hearing({ target: '0+2+0', what: 'stem', strip: 'rain' }, 'a')"
        )
        page.click("#listen .play")
        page.wait_for_timeout(4000)
        page.evaluate(_TAP.read_text().split("\n", 1)[1])
        before = page.evaluate(player % "player.gaps")
        found = []
        for number in range(_EDITS):
            page.wait_for_timeout(900)
            down = number % 2 == 0
            heard = page.evaluate(
                f"untilHeard('Rain gain', '{'-60' if down else '0'}', {0.2 if down else 5})"
            )
            found.append(heard)
        gaps = page.evaluate(player % "player.gaps") - before
        browser.close()
    times = [t for t in found if t is not None]
    low, middle, high = np.percentile(times, [0, 50, 90])
    yield (
        f"an edit is heard after {middle:.0f} ms (least {low:.0f}, 9 of 10 under "
        f"{high:.0f}, most {max(times):.0f}; "
        f"asked: 250), {len(found) - len(times)} of {len(found)} not heard, {gaps} gaps"
    )


def _listeners(port: int, mix_id: int, cookie: str) -> Iterator[str]:
    for count in (1, 2, 4, 8):
        gaps: list[int] = []
        loads: list[float] = []
        threads = [
            threading.Thread(target=_listener, args=(port, mix_id, cookie, n, gaps, loads))
            for n in range(count)
        ]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        yield (
            f"{count} at once for {_LISTEN_S:.0f} s: each engine {np.mean(loads):.0%} "
            "of real time, "
            f"gaps {sum(gaps)} in all"
        )


def _listener(
    port: int, mix_id: int, cookie: str, number: int, gaps: list[int], loads: list[float]
) -> None:
    """Plays as a browser does, by the clock.

    From half a second after the first stretch has come.
    """
    from websockets.sync.client import connect

    live = connect(
        f"ws://127.0.0.1:{port}/mix/{mix_id}/listen/live",
        origin="http://127.0.0.1",  # type: ignore[arg-type]
        additional_headers={"Cookie": f"sessionid={cookie}"},
        open_timeout=60,
    )
    state: dict[str, Any] = {
        "hearings": {"a": {"target": ("0+2+0", "binaural")[number % 2]}, "b": {}},
        "monitor": {},
        "loop": None,
        "comparing": False,
        "active": "a",
        "matched": True,
    }
    with live:
        while "ready" not in json.loads(live.recv(60)):
            pass
        live.send(json.dumps({"state": state}))
        live.send(json.dumps({"do": "play", "at": number * 48000}))
        began: float | None = None
        reached, missed, epoch, load, dry, said = 0, 0, 0, 0.0, False, -_REPORT
        while began is None or time.monotonic() - began < _LISTEN_S:
            try:
                data = live.recv(0.01)
            except TimeoutError:
                data = ""
            if isinstance(data, bytes):
                header = json.loads(data[4 : 4 + struct.unpack("<I", data[:4])[0]])
                reached, epoch = header["stream"] + header["frames"], header["epoch"]
                began = began or time.monotonic() + 0.05
            elif data:
                load = json.loads(data).get("load", load)
            if began is not None:
                played = int((time.monotonic() - began) * 48000)
                gap = played > reached and not dry
                missed += gap
                dry = played > reached
                if dry:
                    began += (played - reached) / 48000
                frames = max(min(played, reached), 0)
                if gap or frames >= said + _REPORT:
                    said = frames
                    live.send(
                        json.dumps(
                            {"do": "played", "epoch": epoch, "frames": frames, "gaps": int(gap)}
                        )
                    )
        gaps.append(missed)
        loads.append(load)
