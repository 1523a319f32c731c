"""Running on one machine: ports, and the processes that serve."""

import io
import json
import os
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
import unittest
from contextlib import ExitStack, redirect_stderr
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path
from unittest.mock import patch

from metaphon.local import serve
from metaphon.local.cluster import Cluster, ClusterError, free_port, port_is_free
from metaphon.local.servers import LISTENING, PAGES, command
from tests.runner import long_test


class Ports(unittest.TestCase):
    def taken(self, stack: ExitStack, port: int = 0) -> int:
        listening = stack.enter_context(socket.socket())
        listening.bind(("127.0.0.1", port))
        listening.listen()
        return int(listening.getsockname()[1])

    def test_a_taken_port_is_passed_over(self) -> None:
        with ExitStack() as stack:
            port = self.taken(stack)
            self.assertFalse(port_is_free(port))
            found = free_port(port)
            self.assertGreater(found, port)
            self.assertTrue(port_is_free(found))
        self.assertTrue(port_is_free(port))

    def test_where_all_are_taken_it_is_said(self) -> None:
        with ExitStack() as stack:
            first = 40100
            for port in range(first, first + 100):
                if port_is_free(port):
                    self.taken(stack, port)
            with self.assertRaisesRegex(ClusterError, "No port from 40100 to 40199"):
                free_port(first)


class Servers(unittest.TestCase):
    def test_pages_and_listening_are_two_and_stay_on_this_machine(self) -> None:
        self.assertNotEqual(PAGES, LISTENING)
        for application in (PAGES, LISTENING):
            words = command(application, 8123)
            self.assertEqual(words[words.index("--host") + 1], "127.0.0.1")
            self.assertEqual(words[words.index("--port") + 1], "8123")
            self.assertIn(application, words)


class Ready(unittest.TestCase):
    def test_what_is_waited_for_is_named(self) -> None:
        answers = [(503, {"status": "not ready", "database": True, "storage": False})] * 2
        answers.append((200, {"status": "ready", "database": True, "storage": True}))

        class Health(BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                code, told = answers.pop(0)
                self.send_response(code)
                self.end_headers()
                self.wfile.write(json.dumps(told).encode())

            def log_message(self, *told: object) -> None:
                pass

        with HTTPServer(("127.0.0.1", 0), Health) as pages, ExitStack() as stack:
            threading.Thread(target=pages.serve_forever, daemon=True).start()
            stack.callback(pages.shutdown)
            said = stack.enter_context(redirect_stderr(io.StringIO()))
            stack.enter_context(patch.object(serve, "_LONG_S", 0.0))
            serve._wait_until_ready(f"http://127.0.0.1:{pages.server_port}", {})
        self.assertEqual(answers, [])
        self.assertEqual(said.getvalue(), "Not ready yet: storage (waiting)\n")


class Ends(unittest.TestCase):
    """What is killed comes back, and leaves nothing behind."""

    def test_a_process_ends_with_the_one_that_started_it(self) -> None:
        begun = (
            "import os, sys, time; from metaphon.local.servers import begin; "
            "sleep = [sys.executable, '-c', 'import time; time.sleep(60)']; "
            "child = begin(sleep, dict(os.environ)); "
            "print(child.pid, flush=True); time.sleep(60)"
        )
        with subprocess.Popen([sys.executable, "-c", begun], stdout=subprocess.PIPE) as parent:
            assert parent.stdout
            child = int(parent.stdout.readline())
            os.kill(child, 0)  # it is there
            parent.send_signal(signal.SIGKILL)
            parent.wait()
            until = time.monotonic() + 10.0
            while time.monotonic() < until and _lives(child):
                time.sleep(0.05)
        self.assertFalse(_lives(child))

    @long_test
    def test_a_database_that_was_killed_is_started_again_on_its_port(self) -> None:
        with tempfile.TemporaryDirectory() as folder, Cluster(Path(folder)) as cluster:
            port = cluster.port
            cluster.keep_up()
            pid = int((cluster._data / "postmaster.pid").read_text().split()[0])
            os.kill(pid, signal.SIGKILL)
            until = time.monotonic() + 10.0
            while time.monotonic() < until and not port_is_free(port):
                time.sleep(0.05)
            cluster.keep_up()
            self.assertFalse(port_is_free(port))
            self.assertEqual(cluster.port, port)
            cluster.remove()


class Settings(unittest.TestCase):
    def read(self, **said: str) -> str:
        """What is printed by a process that reads the settings: options of the database, or why
        not.
        """
        variables = {
            "PATH": os.environ["PATH"],
            "PYTHONPATH": os.pathsep.join(sys.path),
            "METAPHON_SECRET_KEY": "k" * 50,
            "METAPHON_DATABASE_URL": "postgres://a:b@127.0.0.1:1/c?sslmode=require",
            "METAPHON_STORAGE": tempfile.gettempdir(),
        }
        told = "from metaphon.web import settings as s; print(s.DATABASES['default']['OPTIONS'])"
        done = subprocess.run(
            [sys.executable, "-c", told],
            env=variables | said,
            capture_output=True,
            text=True,
            check=False,
        )
        return done.stdout + done.stderr

    def test_what_is_unsafe_is_refused_and_nothing_is_dropped(self) -> None:
        self.assertIn("'sslmode': 'require'", self.read())
        self.assertIn("SECRET_KEY is short", self.read(METAPHON_SECRET_KEY="short"))
        open_demo = self.read(METAPHON_DEMO="true", METAPHON_ADDRESS="https://mix.example")
        self.assertIn("runs on loopback alone", open_demo)
        self.assertIn("'sslmode'", self.read(METAPHON_DEMO="true"))

    def test_only_named_proxies_say_where_a_request_comes_from(self) -> None:
        self.assertIn("--no-proxy-headers", command(PAGES, 1))
        with patch.dict(os.environ, METAPHON_PROXIES="10.0.0.1"):
            self.assertIn("10.0.0.1", command(PAGES, 1))


def _lives(pid: int) -> bool:
    try:
        return "Z" not in Path(f"/proc/{pid}/stat").read_text().split()[2]
    except FileNotFoundError:
        return False
