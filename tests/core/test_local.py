"""Running on one machine: ports, and the processes that serve."""

import os
import signal
import socket
import subprocess
import sys
import tempfile
import time
import unittest
from contextlib import ExitStack
from pathlib import Path

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


def _lives(pid: int) -> bool:
    try:
        return "Z" not in Path(f"/proc/{pid}/stat").read_text().split()[2]
    except FileNotFoundError:
        return False
