"""Knowing at once when a mix has changed, whichever process changed it.

PostgreSQL's own notices.
"""

import asyncio
from collections import defaultdict
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

import psycopg
from django.conf import settings
from django.db import connection

from metaphon.web.mixes.models import Mix

_CHANNEL = "metaphon_mix"
_AGAIN_S = 1.0


def tell(mix: Mix) -> None:
    """Say that a mix has changed, to be heard when the transaction has landed."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_notify(%s, %s)", [_CHANNEL, str(mix.pk)])


class Watch:
    """The listeners of one process, sharing one connection to the database."""

    def __init__(self) -> None:
        self._waiting: dict[int, set[asyncio.Event]] = defaultdict(set)
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

    async def _listen(self) -> None:
        database = settings.DATABASES["default"]
        while True:
            try:
                async with await psycopg.AsyncConnection.connect(
                    host=database["HOST"],
                    port=database["PORT"],
                    user=database["USER"],
                    password=database["PASSWORD"],
                    dbname=database["NAME"],
                    autocommit=True,
                ) as listening:
                    await listening.execute(f"LISTEN {_CHANNEL}")
                    for events in self._waiting.values():  # what changed while nobody listened
                        for event in events:
                            event.set()
                    async for notice in listening.notifies():
                        for event in self._waiting.get(int(notice.payload), ()):
                            event.set()
            except psycopg.Error:
                await asyncio.sleep(_AGAIN_S)


watch = Watch()
