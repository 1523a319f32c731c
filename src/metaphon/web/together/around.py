"""A page's light connection: told at once of what others do, and telling others where one is."""

import asyncio
import json
import logging
import time
from collections import Counter
from collections.abc import Coroutine
from contextlib import suppress
from datetime import timedelta
from typing import Any

from channels.db import database_sync_to_async
from channels.generic.websocket import AsyncWebsocketConsumer
from django.utils.timezone import now
from pydantic import BaseModel, Field, ValidationError

from metaphon.core.document.part import LATEST_S
from metaphon.core.errors import InputError
from metaphon.web.mixes.changed_places import find_changed_places
from metaphon.web.mixes.connections import still_signed_in
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.snapshots import changes_of
from metaphon.web.mixes.watch import say, tell, watch
from metaphon.web.shell.called import called
from metaphon.web.shell.posted import data_in
from metaphon.web.shell.workspaces import WORKSPACES
from metaphon.web.together.models import Decision, Presence

_LOOK_EVERY_S = 3.0
_GONE_AFTER = timedelta(seconds=12)
_LONGEST = 6000
_MOST_EACH = 60  # open pages of one person
_open_pages: Counter[int] = Counter()
_MOST_EDITS = 20  # that a page is told of one by one
log = logging.getLogger(__name__)
_NONSENSE = (KeyError, TypeError, AttributeError, ValueError)


class _Heard(BaseModel):
    """What a page tells of its listening, for those who follow it."""

    playing: bool
    at_s: float = Field(ge=0.0, le=LATEST_S, allow_inf_nan=False)
    when_ms: float = Field(allow_inf_nan=False)
    state: dict[str, Any]


class Around(AsyncWebsocketConsumer):
    """One open page of one mix; those who are no members of it are refused."""

    async def connect(self) -> None:
        self.user = self.scope["user"]
        self.mix_id = int(self.scope["url_route"]["kwargs"]["mix_id"])
        self._key: Any = None
        if not self.user.is_authenticated or _open_pages[self.user.pk] >= _MOST_EACH:
            await self.close()
            return
        _open_pages[self.user.pk] += 1  # counted before anything is waited for
        try:
            self._key = await self._come()
        finally:
            if self._key is None:
                self._leave()
        if self._key is None:
            await self.close()
            return
        self._tasks: list[asyncio.Task[None]] = []
        self._told: int | None = None  # the revision that the page was told of last
        try:
            await self.accept()
        except BaseException:  # it was gone before it had come
            self._leave()
            await self._go()
            raise
        works = (self._follow(), self._listen(), self._stay())
        self._tasks = [asyncio.create_task(self._or_close(work)) for work in works]

    async def _or_close(self, work: Coroutine[Any, Any, None]) -> None:
        """Where a part of it fails the page connects anew, and is told everything again."""
        try:
            await work
        except Exception as error:
            if not isinstance(error, OSError):  # that is a page that has gone already
                log.exception("a page's connection failed")
            with suppress(OSError):
                await self.close()

    async def disconnect(self, code: int) -> None:
        if self._key is None:
            return
        for task in self._tasks:
            task.cancel()
        self._leave()
        await self._go()

    def _leave(self) -> None:
        _open_pages[self.user.pk] -= 1
        if not _open_pages[self.user.pk]:
            del _open_pages[self.user.pk]

    async def receive(self, text_data: str | None = None, bytes_data: bytes | None = None) -> None:
        with suppress(InputError, ValidationError, *_NONSENSE):  # nonsense says nothing
            told = data_in((text_data or "")[:_LONGEST])
            if "ping" in told:
                server = {"ping": float(told["ping"]), "server": time.time() * 1000.0}
                await self.send(text_data=json.dumps(server))
            elif "follow" in told:
                await self._say({"heard": {"asks": True}, "to": str(told["follow"])})
            elif "holds" in told:
                strip, path = told["holds"]
                await self._say({"holds": [str(strip), str(path)]})
            elif "heard" in told:
                await self._say({"heard": _Heard.model_validate(told["heard"]).model_dump()})
            else:
                titles = {workspace.name: workspace.title for workspace in WORKSPACES}
                await self._move(titles[told["place"]])

    async def _listen(self) -> None:
        """What other pages say, to this one: to all, or to it alone."""
        with watch.said(self.mix_id) as said:
            while message := await said.get():
                if self._concerns(message):
                    await self.send(text_data=json.dumps(message))

    def _concerns(self, message: dict[str, Any]) -> bool:
        if "people" in message:
            return self.user.pk in message["people"]
        return message["by"] != str(self._key) and message.get("to") in (None, str(self._key))

    async def _follow(self) -> None:
        async with watch.on(self.mix_id) as changed:
            changed.set()
            while await changed.wait():
                changed.clear()
                await self.send(text_data=json.dumps(await self._state()))

    async def _stay(self) -> None:
        while await self._seen():
            await asyncio.sleep(_LOOK_EVERY_S)
        await self.close()

    @database_sync_to_async
    def _come(self) -> int | None:
        """The number of this presence; None for those who may not be here."""
        mix = self._mix()
        if mix is None:
            return None
        row = Presence.objects.create(mix=mix, user_id=self.user.pk, seen_at=now())
        tell(mix)
        return row.pk

    def _mix(self) -> Mix | None:
        if not self.user.is_authenticated:
            return None
        return Mix.objects.filter(pk=self.mix_id, members__user=self.user.pk).first()

    @database_sync_to_async
    def _go(self) -> None:
        Presence.objects.filter(pk=self._key).delete()
        tell(Mix(pk=self.mix_id))

    @database_sync_to_async
    def _move(self, place: str) -> None:
        if Presence.objects.filter(pk=self._key).exclude(place=place).update(place=place):
            tell(Mix(pk=self.mix_id))

    @database_sync_to_async
    def _say(self, message: dict[str, Any]) -> None:
        say(self.mix_id, {**message, "by": str(self._key)})

    @database_sync_to_async
    def _seen(self) -> bool:
        """Say that it is still here; whether this person is still signed in and a member."""
        if not still_signed_in(self.scope, self.user) or self._mix() is None:
            return False
        gone = Presence.objects.filter(mix=self.mix_id, seen_at__lt=now() - _GONE_AFTER)
        if gone.delete()[0]:  # of a server that was killed
            tell(Mix(pk=self.mix_id))
        return bool(Presence.objects.filter(pk=self._key).update(seen_at=now()))

    @database_sync_to_async
    def _state(self) -> dict[str, Any]:
        """What a page shows of the others, and what tells it that something is new."""
        mix = Mix.objects.get(pk=self.mix_id)
        remarks = mix.remarks.filter(resolved_at=None)
        newest = mix.remarks.order_by("-pk").values_list("pk", flat=True).first()
        answers = sum(row.answers.count() for row in remarks.prefetch_related("answers"))
        others: dict[str, list[Presence]] = {}
        for one in mix.presences.exclude(user=self.user.pk).select_related("user").order_by("pk"):
            others.setdefault(called(one.user), []).append(one)
        edits, self._told = self._edits_since(mix), mix.revision
        return {
            "revision": mix.revision,
            "edits": edits,
            "decisions": Decision.objects.filter(render__mix=mix).count(),
            "remarks": f"{newest} {remarks.count()} {answers}",
            "others": [
                {
                    "name": name,
                    "places": sorted({one.place for one in pages} - {""}),
                    "keys": [str(one.pk) for one in pages],
                }
                for name, pages in sorted(others.items())
            ],
        }

    def _edits_since(self, mix: Mix) -> list[dict[str, Any]] | None:
        """What was changed since the page was told last; None where it was told of nothing yet."""
        if self._told is None:
            return None
        later = mix.journal.filter(revision__gt=self._told).order_by("-revision")
        return [
            {
                "revision": entry.revision,
                "own": entry.user_id == self.user.pk,
                "by": called(entry.user),
                "what": entry.what,
                "places": find_changed_places(changes_of(entry)),
            }
            for entry in later.select_related("user")[:_MOST_EDITS]
        ]
