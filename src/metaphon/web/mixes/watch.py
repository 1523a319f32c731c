"""Knowing at once when a mix has changed, whichever process changed it.

PostgreSQL's own notices.
"""

import asyncio
import json
from collections import defaultdict
from collections.abc import AsyncIterator, Iterator
from contextlib import asynccontextmanager, contextmanager, suppress
from typing import Any

import psycopg
from django.conf import settings
from django.db import connection

from metaphon.web.mixes.models import Mix

_CHANNEL = "metaphon_mix"
_SAID = "metaphon_said"
_LONGEST = 7000  # of a notice, in bytes
_AGAIN_S = 1.0
_MOST_HEARD = 100


def tell(mix: Mix) -> None:
    """Say that a mix has changed, to be heard when the transaction has landed."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_notify(%s, %s)", [_CHANNEL, str(mix.pk)])


def say(mix_id: int, message: dict[str, Any]) -> None:
    """Pass something on, as it is, to every page that looks at a mix; what is too long is not."""
    text = f"{mix_id} {json.dumps(message)}"
    if len(text.encode()) <= _LONGEST:
        with connection.cursor() as cursor:
            cursor.execute("SELECT pg_notify(%s, %s)", [_SAID, text])


def _where() -> dict[str, Any]:
    """How the database is reached, with all that its address says (TLS, several servers)."""
    database = settings.DATABASES["default"]
    options = {name: value for name, value in database["OPTIONS"].items() if name != "pool"}
    own = {
        "host": database["HOST"],
        "port": database["PORT"],
        "user": database["USER"],
        "password": database["PASSWORD"],
        "dbname": database["NAME"],
    }
    return options | {name: value for name, value in own.items() if value}


class Watch:
    """The listeners of one process, sharing one connection to the database."""

    def __init__(self) -> None:
        self._waiting: dict[int, set[asyncio.Event]] = defaultdict(set)
        self._hearing: dict[int, set[asyncio.Queue[dict[str, Any]]]] = defaultdict(set)
        self._task: asyncio.Task[None] | None = None

    @asynccontextmanager
    async def on(self, mix_id: int) -> AsyncIterator[asyncio.Event]:
        """An event that is set whenever the mix changes (the one who waits clears it)."""
        event = asyncio.Event()
        self._waiting[mix_id].add(event)
        if self._task is None or self._task.done():
            self._task = asyncio.create_task(self._listen())
        try:
            yield event
        finally:
            self._waiting[mix_id].discard(event)
            if not self._waiting[mix_id]:
                del self._waiting[mix_id]
            if not self._waiting and self._task:
                self._task.cancel()
                self._task = None

    @contextmanager
    def said(self, mix_id: int) -> Iterator[asyncio.Queue[dict[str, Any]]]:
        """What is passed on to who looks at a mix, while it is waited for by `on` as well."""
        heard: asyncio.Queue[dict[str, Any]] = asyncio.Queue(_MOST_HEARD)
        self._hearing[mix_id].add(heard)
        try:
            yield heard
        finally:
            self._hearing[mix_id].discard(heard)
            if not self._hearing[mix_id]:
                del self._hearing[mix_id]

    async def _listen(self) -> None:
        while True:
            try:
                async with await psycopg.AsyncConnection.connect(
                    **_where(), autocommit=True
                ) as listening:
                    await listening.execute(f"LISTEN {_CHANNEL}")
                    await listening.execute(f"LISTEN {_SAID}")
                    for events in self._waiting.values():  # what changed while nobody listened
                        for event in events:
                            event.set()
                    async for notice in listening.notifies():
                        self._pass_on(notice.channel, notice.payload)
            except psycopg.Error:
                await asyncio.sleep(_AGAIN_S)

    def _pass_on(self, channel: str, payload: str) -> None:
        number, _, text = payload.partition(" ")
        if channel == _CHANNEL:
            for event in self._waiting.get(int(number), ()):
                event.set()
            return
        for heard in self._hearing.get(int(number), ()):
            with suppress(asyncio.QueueFull):  # who does not keep up misses some
                heard.put_nowait(json.loads(text))


watch = Watch()
