"""The real server and a real worker on the test database, and a browser looking at them."""

import contextlib
import os
import re
import signal
import subprocess
import tempfile
import time
import unittest
from collections.abc import Callable
from contextlib import ExitStack
from pathlib import Path
from typing import Any
from urllib.parse import quote

from django.conf import settings
from django.contrib.auth import get_user_model
from django.core.management import call_command
from django.db import connection, connections
from django.test import Client
from django.test.utils import override_settings
from playwright.sync_api import (
    APIResponse,
    ConsoleMessage,
    Locator,
    Page,
    Request,
    Route,
    expect,
    sync_playwright,
)
from playwright.sync_api import Error as PageError

from metaphon.local.cluster import free_port, port_is_free
from metaphon.local.servers import LISTENING, PAGES, WORK, begin, command
from tests.demo import bring_in_demo

CHROMIUM = "/usr/bin/chromium"
WORK_MS = 600_000  # a worker stands back from all else, and a busy machine is no fault
_FLAGS = (
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--autoplay-policy=no-user-gesture-required",
    # a window of the browser's own for each page, which nobody sees, and half of its work
    "--disable-features=WebUIOmniboxPopup,WebUIOmniboxAimPopup,HttpsUpgrades,MediaRouter,Translate",
)


class _Served:
    """Servers, a worker, a storage and Chromium, shared by all classes of a process."""

    def __init__(self) -> None:
        self._stack = ExitStack()
        self.storage = Path(self._stack.enter_context(tempfile.TemporaryDirectory()))
        (self.storage / "scratch").mkdir()
        database = connection.settings_dict
        assert database["NAME"].startswith("test_"), (
            "these tests write, and only to a test database"
        )
        port = free_port(8600 + 4 * (os.getpid() % 250))  # other runs begin elsewhere
        listen_port = free_port(port + 1)
        self.address = f"http://127.0.0.1:{port}"
        self.listen_address = f"ws://127.0.0.1:{listen_port}"
        self.environment = {
            **os.environ,
            "METAPHON_DATABASE_URL": "postgres://{USER}:{0}@{HOST}:{PORT}/{NAME}".format(
                quote(database["PASSWORD"]), **database
            ),
            "METAPHON_STORAGE": str(self.storage),
            "METAPHON_UPLOADS": str(self.storage / "scratch"),
            "METAPHON_SECRET_KEY": settings.SECRET_KEY,
            "METAPHON_DEMO": "true",
            "METAPHON_LISTEN_PORT": str(listen_port),
            "METAPHON_ADDRESS": self.address,
        }
        self._begin(command(PAGES, port, "error"))
        self._begin(command(LISTENING, listen_port, "error"))
        self.worker: subprocess.Popen[bytes] | None = None
        for served in (port, listen_port):  # the engine's loops may have to be compiled first
            wait_for(lambda served=served: not port_is_free(served), seconds=600.0)
        playwright = sync_playwright().start()
        self._stack.callback(playwright.stop)
        self.chromium = playwright.chromium.launch(executable_path=CHROMIUM, args=list(_FLAGS))
        self._stack.callback(self.chromium.close)

    def _begin(self, what: list[str]) -> subprocess.Popen[bytes]:
        child = begin(what, self.environment)
        self._stack.callback(end, child)
        return child

    def with_demo_alone(self) -> None:
        """Nothing of another class is left, and a worker waits for what this one asks for."""
        self._empty()
        bring_in_demo()
        self.begin_worker()

    def begin_worker(self) -> None:
        self.worker = self._begin(WORK)

    def _empty(self) -> None:
        if self.worker:
            end(self.worker, signal.SIGKILL)  # what it had in hand goes too
        # numbers go on, since the servers know mixes by theirs
        call_command("flush", interactive=False, verbosity=0, reset_sequences=False)
        with connection.cursor() as cursor:
            cursor.execute("TRUNCATE procrastinate_jobs, procrastinate_workers CASCADE")

    def stop(self) -> None:
        self._empty()
        connections.close_all()
        self._stack.close()


_served: _Served | None = None


_DRAWN = """new Promise((done) => setTimeout(() => done(document.readyState === "complete"), 30))"""


def stop_servers() -> None:
    """End what the browser tests of this process have begun."""
    global _served
    if _served:
        _served.stop()
    _served = None


def end(child: subprocess.Popen[bytes], how: signal.Signals = signal.SIGTERM) -> None:
    if child.poll() is None:
        child.send_signal(how)
    try:
        child.wait(timeout=8)
    except subprocess.TimeoutExpired:
        child.kill()
        child.wait()


def wait_for(ready: Any, seconds: float = 60.0) -> None:
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        with contextlib.suppress(OSError):
            if ready():
                return
        time.sleep(0.1)
    raise AssertionError("this did not come about in time")


def catch(page: Page, address: str, act: Callable[[Route], None]) -> None:
    """Give what a page asks of an address to a function, from now on.

    Chromium says that it catches requests before it does, so one is made to see.
    """
    page.route(address, act)
    if page.url == "about:blank":
        return
    page.route("**/icon.svg?caught", lambda route: route.fulfill(body="caught"))
    asks = "fetch('/static/shell/icon.svg?caught').then((answer) => answer.text())"
    wait_for(lambda: page.evaluate(asks) == "caught")


class HeldBack:
    """The first request to an address, on its way until it is let go; others are not held."""

    def __init__(self, page: Page, address: str, answered: bool = False) -> None:
        self._page, self._address, self._answered = page, address, answered
        self._held: list[tuple[Route, APIResponse | None]] = []
        catch(page, address, self._hold)

    def _hold(self, route: Route) -> None:
        if self._held:
            route.continue_()
        else:
            self._held.append((route, route.fetch() if self._answered else None))

    def came(self) -> None:
        """Wait until the page has asked, and the server answered where that was to be held."""
        wait_for(lambda: self._page.wait_for_timeout(50) or self._held)

    def let_go(self) -> None:
        [(route, answer)] = self._held
        route.fulfill(response=answer) if answer else route.continue_()
        self._page.unroute(self._address)


class BrowserTest(unittest.TestCase):
    """Each class has the demo mixes to itself; servers, worker and browser are shared."""

    databases = {"default"}  # so that the runner makes a test database even for these tests alone

    @classmethod
    def setUpClass(cls) -> None:
        global _served
        # the server hashes passwords as in earnest, so the people made here must be hashed alike
        hashers = ["django.contrib.auth.hashers.PBKDF2PasswordHasher"]
        _served = _served or _Served()
        cls.served = _served
        cls.enterClassContext(
            override_settings(MEDIA_ROOT=_served.storage, PASSWORD_HASHERS=hashers)
        )
        cls.address, cls.listen_address = _served.address, _served.listen_address
        cls.chromium = _served.chromium
        _served.with_demo_alone()
        expect.set_options(timeout=20000)  # a slow machine is no fault
        # while Playwright's loop runs the tests have a connection of their own, which nothing else
        # would close
        cls.addClassCleanup(connections.close_all)

    wait_for = staticmethod(wait_for)

    def open(self, user: str = "demo", **options: Any) -> Page:
        """A blank page of who is signed in; whatever its console says fails the test."""
        page = self.page(**options)
        client = Client()
        client.force_login(get_user_model().objects.get(username=user))
        name = settings.SESSION_COOKIE_NAME
        session = {"name": name, "value": client.cookies[name].value, "url": self.address}
        page.context.add_cookies([session])
        return page

    def page(self, **options: Any) -> Page:
        """A page of nobody in particular."""
        context = self.chromium.new_context(
            viewport={"width": 1280, "height": 800}, accept_downloads=True, **options
        )
        self.addCleanup(context.close)
        page = context.new_page()
        page.set_default_timeout(20000)
        self._look_at(page)
        page.on("pageerror", lambda error: self.faults.append(str(error)))
        page.on("console", self.hear_console)
        return page

    def box(self, what: Locator) -> Any:
        """Where something is; while it is drawn anew it is nowhere, so once it is somewhere."""
        found: list[Any] = []
        self.wait_for(lambda: found.append(what.bounding_box()) or found[-1])
        return found[-1]

    def settled(self, page: Page) -> None:
        """Wait until a page waits for no answer, and has drawn what it was answered."""
        [waits] = [waits for one, waits in self._looked_at if one is page]
        rests = 0  # an answer may be what the next question is asked after

        def rested() -> bool:
            nonlocal rests
            ready = False
            with contextlib.suppress(PageError):  # it may be left for another
                ready = page.evaluate(_DRAWN)
            rests = rests + 1 if ready and not waits else 0
            return rests == 3

        self.wait_for(rested)

    def _look_at(self, page: Page) -> None:
        """Keep what a page waits for, so that a test that fails can say it."""
        waits: list[Request] = []
        self._looked_at.append((page, waits))
        page.on("request", lambda request: waits.append(request))
        for ended in ("requestfinished", "requestfailed"):
            page.on(ended, lambda request: request in waits and waits.remove(request))

    def _callTestMethod(self, method: Callable[[], None]) -> None:  # noqa: N802
        try:
            method()
        except Exception as failed:
            for page, waits in self._looked_at:
                asked = [f"{one.method} {one.url}" for one in waits]
                failed.add_note(f"{page.url} waits for {asked}.")
                with contextlib.suppress(PageError):
                    hand = page.evaluate("document.activeElement?.outerHTML.slice(0, 300)")
                    shown = page.locator("body").aria_snapshot(timeout=5000)[:6000]
                    failed.add_note(f"Has the keys: {hand}\n{shown}")
            raise

    def setUp(self) -> None:
        self._looked_at: list[tuple[Page, list[Request]]] = []
        self.faults: list[str] = []
        self.addCleanup(lambda: self.assertEqual(self.faults, []))

    def hear_console(self, message: ConsoleMessage) -> None:
        """What a console says is a fault; but a refusal on purpose is told there as well.

        So is a page that was given up for another that was pressed after it.
        """
        refused = re.search(r"(status of|Error Code) 4(03|09|13|22)", message.text)
        given_up = re.match(r"htmx:(afterRequest|sendAbort), ", message.text)
        if message.type in ("error", "warning") and not (refused or given_up):
            self.faults.append(f"{message.type}: {message.text} {message.location.get('url')}")
