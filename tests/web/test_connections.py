"""What one person's connections may hold: open pages, engines, and sound that nobody reads."""

import asyncio
import json
from collections import Counter
from types import SimpleNamespace
from typing import Any
from unittest import TestCase
from unittest.mock import AsyncMock, patch

from asgiref.testing import ApplicationCommunicator

from metaphon.core.listen.engines import ENGINES
from metaphon.web.listen import consumer
from metaphon.web.listen.consumer import Listener
from metaphon.web.together import around

_PERSON = SimpleNamespace(pk=7, is_authenticated=True)
_STRETCH = bytes(1 << 20)


class Connections(TestCase):
    def answer(self, application: Any) -> str:
        """What comes of a page that connects: accepted, or closed."""
        scope = {"type": "websocket", "user": _PERSON, "url_route": {"kwargs": {"mix_id": "1"}}}

        async def connect() -> str:
            talk: Any = ApplicationCommunicator(application.as_asgi(), scope)
            await talk.send_input({"type": "websocket.connect"})
            answer = await talk.receive_output(3)
            return str(answer["type"])

        return asyncio.run(connect())

    def test_no_more_pages_are_open_than_anybody_needs(self) -> None:
        """All at once: each is counted before anything is waited for."""
        let_in = AsyncMock(return_value=None)  # who is let in is asked of the database next
        for held, asked in ((59, True), (60, False), (600, False)):
            let_in.reset_mock()
            with (
                patch.object(around, "_open_pages", Counter({7: held})) as counted,
                patch.object(around.Around, "_come", let_in),
            ):
                self.assertEqual(self.answer(around.Around), "websocket.close")
                self.assertEqual(let_in.called, asked)
                self.assertEqual(counted[7], held)  # and counted off again

    def test_no_more_engines_run_than_twelve_of_a_person(self) -> None:
        mix = SimpleNamespace(sample_rate_hz=48000)

        async def enter(listener: Any) -> Any:
            listener._who = 7
            return mix

        with (
            patch.object(consumer, "_connections", Counter({7: 12})) as counted,
            patch.object(Listener, "_enter", enter),
            patch.object(ENGINES, "Process") as begun,
        ):
            self.assertEqual(self.answer(Listener), "websocket.close")
            self.assertFalse(begun.called)
            self.assertEqual(counted[7], 12)

    def test_sound_that_nobody_reads_is_left_out_and_that_is_said_once(self) -> None:
        listener: Any = Listener()
        listener._waiting_bytes, listener._is_behind = 0, False
        listener._out = asyncio.Queue()
        left_out = [listener._is_too_far_behind(len(_STRETCH)) for _ in range(100)]
        self.assertEqual(left_out, [False] * 8 + [True] * 92)
        said = json.loads(listener._out.get_nowait())
        self.assertIn("too slow", said["message"])
        self.assertTrue(listener._out.empty())
        listener._waiting_bytes = 0  # all of it was read
        self.assertFalse(listener._is_too_far_behind(len(_STRETCH)))
        self.assertFalse(listener._is_behind)  # so that it is said again where it happens again
