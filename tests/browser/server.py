"""The real server and a real worker on the test database, and a browser looking at them."""

import contextlib
import os
import signal
import subprocess
import tempfile
import time
import unittest
import urllib.request
from pathlib import Path
from typing import Any
from urllib.parse import quote

from django.conf import settings
from django.core.management import call_command
from django.db import connection, connections
from django.test.utils import override_settings
from playwright.sync_api import Page, expect, sync_playwright

from metaphon.local.cluster import free_port, port_is_free
from metaphon.local.servers import LISTENING, PAGES, WORK, command
from tests.demo import bring_in_demo

CHROMIUM = "/usr/bin/chromium"
_FLAGS = (
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--autoplay-policy=no-user-gesture-required",
)


class BrowserTest(unittest.TestCase):
    """Each class has a server, a worker, the demo mixes and a storage of its own."""

    databases = {"default"}  # so that the runner makes a test database even for these tests alone

    @classmethod
    def setUpClass(cls) -> None:
        cls.storage = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        (cls.storage / "scratch").mkdir()
        # the server hashes passwords as in earnest, so the people made here must be hashed alike
        hashers = ["django.contrib.auth.hashers.PBKDF2PasswordHasher"]
        cls.enterClassContext(override_settings(MEDIA_ROOT=cls.storage, PASSWORD_HASHERS=hashers))
        database = connection.settings_dict
        assert database["NAME"].startswith("test_"), (
            "these tests write, and only to a test database"
        )
        # nothing of another class is left: its recordings are gone with its storage
        call_command("flush", interactive=False, verbosity=0)
        with connection.cursor() as cursor:
            cursor.execute("TRUNCATE procrastinate_jobs, procrastinate_workers CASCADE")
        bring_in_demo()
        cls.environment = {
            **os.environ,
            "METAPHON_DATABASE_URL": "postgres://{USER}:{0}@{HOST}:{PORT}/{NAME}".format(
                quote(database["PASSWORD"]), **database
            ),
            "METAPHON_STORAGE": str(cls.storage),
            "METAPHON_UPLOADS": str(cls.storage / "scratch"),
            "METAPHON_SECRET_KEY": settings.SECRET_KEY,
            "METAPHON_DEMO": "true",
        }
        port = free_port(8600)
        listen_port = free_port(port + 1)
        cls.address = f"http://127.0.0.1:{port}"
        cls.listen_address = f"ws://127.0.0.1:{listen_port}"
        cls.environment["METAPHON_LISTEN_PORT"] = str(listen_port)
        cls.begin(command(PAGES, port, "error"))
        cls.begin(command(LISTENING, listen_port, "error"))
        cls.worker = cls.begin(WORK)
        cls.wait_for(
            lambda: urllib.request.urlopen(f"{cls.address}/health", timeout=1).status == 200
        )
        cls.wait_for(lambda: not port_is_free(listen_port))
        expect.set_options(timeout=20000)  # a slow machine is no fault
        playwright = sync_playwright().start()
        cls.addClassCleanup(playwright.stop)
        cls.chromium = playwright.chromium.launch(executable_path=CHROMIUM, args=list(_FLAGS))
        cls.addClassCleanup(cls.chromium.close)
        # while Playwright's loop runs the tests have a connection of their own, which nothing else
        # would close
        cls.addClassCleanup(connections.close_all)

    @classmethod
    def begin(cls, what: list[str]) -> subprocess.Popen[bytes]:
        child = subprocess.Popen(
            what, env=cls.environment, stdout=subprocess.DEVNULL, start_new_session=True
        )
        cls.addClassCleanup(cls.end, child)
        return child

    @staticmethod
    def end(child: subprocess.Popen[bytes], how: signal.Signals = signal.SIGTERM) -> None:
        if child.poll() is None:
            child.send_signal(how)
        try:
            child.wait(timeout=8)
        except subprocess.TimeoutExpired:
            child.kill()
            child.wait()

    @staticmethod
    def wait_for(ready: Any, seconds: float = 60.0) -> None:
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            with contextlib.suppress(OSError):
                if ready():
                    return
            time.sleep(0.1)
        raise AssertionError("this did not come about in time")

    def open(self, user: str = "demo", password: str = "harbour-lamp") -> Page:
        """A signed-in page; any fault in the page's scripts fails the test."""
        context = self.chromium.new_context(
            viewport={"width": 1280, "height": 800}, accept_downloads=True
        )
        self.addCleanup(context.close)
        page = context.new_page()
        page.set_default_timeout(20000)
        page.on("pageerror", lambda error: self.faults.append(str(error)))
        page.goto(self.address)
        page.fill("[name=username]", user)
        page.fill("[name=password]", password)
        page.click("button:has-text('Sign in')")
        page.wait_for_selector("h1:has-text('Mixes')")
        return page

    def setUp(self) -> None:
        self.faults: list[str] = []
        self.addCleanup(lambda: self.assertEqual(self.faults, []))
