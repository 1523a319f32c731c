"""Running on one machine: ports, and the processes that serve."""

import socket
import unittest
from contextlib import ExitStack

from metaphon.local.cluster import ClusterError, free_port, port_is_free
from metaphon.local.servers import LISTENING, PAGES, command


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
