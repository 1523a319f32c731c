"""A listener's connection.

Settings and edits to an engine in a process of its own, its sound to the browser.
"""

import asyncio
import json
import logging
from collections import Counter
from collections.abc import Hashable
from contextlib import AsyncExitStack, suppress
from multiprocessing.connection import Connection
from typing import Any

from channels.db import database_sync_to_async
from channels.generic.websocket import AsyncWebsocketConsumer
from django.db.models import QuerySet

from metaphon.core.document.difference import find_difference
from metaphon.core.document.mix import Mix as Document
from metaphon.core.edits.registry import read
from metaphon.core.errors import InputError
from metaphon.core.listen.engines import ENGINES
from metaphon.core.listen.monitor import NOW
from metaphon.core.listen.serving import serve
from metaphon.core.listen.wishes import Hearing, Wish
from metaphon.core.presence import how
from metaphon.web.listen.capacity import Capacity
from metaphon.web.listen.monitor_source import document_heard
from metaphon.web.listen.settings import Forgotten, read_settings
from metaphon.web.mixes.connections import still_signed_in
from metaphon.web.mixes.models import JournalEntry, Mix
from metaphon.web.mixes.permissions import User, can_edit
from metaphon.web.mixes.responses import with_files_of
from metaphon.web.mixes.watch import watch
from metaphon.web.shell.posted import UNREADABLE, data_in

_MOST_EACH = 12  # connections of one person, each a process
_MOST_SOURCES = 8  # states, references and results that an engine holds at once
_LOOK_EVERY_S = 3.0  # whether the listener may still listen
_LONGEST_MESSAGE = 500_000  # a path drawn by hand for some minutes
_MOST_WAITING_BYTES = 1 << 23  # some 20 s of stereo; a listener who reads has far less
_TOO_SLOW = {"message": "Your connection is too slow for this sound; some of it was left out."}
_BROKE_OFF = {"message": "Listening broke off; it begins again.", "stopped": True}
log = logging.getLogger(__name__)
capacity = Capacity()
_connections: Counter[Hashable] = Counter()


def _tried(preview: Any, mix: Mix, user: User) -> dict[str, Any]:
    """A command that is tried, its files where they lie. Raises InputError for what is none."""
    return with_files_of(read(preview), mix, user).model_dump(mode="json")


def _from_now(wanted: Hearing, side: str) -> Hearing:
    """A side that hears the mix as it is now, where what it heard is gone."""
    sides = wanted.monitor_sources
    now = getattr(sides, side).model_copy(update={"source": NOW})
    return wanted.model_copy(update={"monitor_sources": sides.model_copy(update={side: now})})


class Listener(AsyncWebsocketConsumer):
    """One listener of one mix.

    Those who are not members of it are refused before anything is sent.
    """

    put_out = "You are signed out here, or no longer a member of this mix."

    async def connect(self) -> None:
        self._pipe: Connection | None = None
        mix = await self._enter()
        if mix is None or _connections[self._who] >= _MOST_EACH:
            await self.close()
            return
        _connections[self._who] += 1  # counted before anything is waited for
        self._given: set[str] = set()  # the sources that the engine has
        self._known: Document | None = None  # the mix that the engine has
        self._revision = -1  # and its revision
        try:
            await self.accept()
        except BaseException:  # it was gone before it had come
            _connections[self._who] -= 1
            raise
        here, there = ENGINES.Pipe()
        self._engine = ENGINES.Process(
            target=serve, args=(there, mix.sample_rate_hz, how()), daemon=True
        )
        try:
            await asyncio.to_thread(self._engine.start)
        except (OSError, EOFError):  # what starts engines has ended, and is there at the next try
            log.exception("an engine could not be started")
            _connections[self._who] -= 1
            await self.send(text_data=json.dumps(_BROKE_OFF))
            await self.close()
            return
        there.close()
        self._pipe = here
        self._out: asyncio.Queue[bytes | None] = asyncio.Queue()
        self._waiting_bytes = 0  # of sound in it
        self._is_behind = False  # whether sound was left out of late
        asyncio.get_running_loop().add_reader(here.fileno(), self._from_engine)
        works = (self._send_on(), self._follow(), self._watch_rights())
        self._tasks = [asyncio.create_task(work) for work in works]

    async def disconnect(self, code: int) -> None:
        if self._pipe is None:
            return
        asyncio.get_running_loop().remove_reader(self._pipe.fileno())
        for task in self._tasks:
            task.cancel()
        self._pipe.close()
        self._pipe = None
        capacity.leaves(self)
        _connections[self._who] -= 1
        await asyncio.to_thread(self._engine.join, 3)
        if self._engine.is_alive():
            self._engine.kill()

    @database_sync_to_async
    def _enter(self) -> Mix | None:
        """The mix, where this person may listen to it, and who they are."""
        self.user = self.scope["user"]
        self.mix_id = int(self.scope["url_route"]["kwargs"]["mix_id"])
        self._who: Hashable = self.user.pk
        mix = self._own_mix().first() if self.user.is_authenticated else None
        self._may_edit = mix is not None and can_edit(mix, self.user)
        return mix

    def _own_mix(self) -> QuerySet[Mix]:
        """The mix, as long as this person is a member of it."""
        return Mix.objects.filter(pk=self.mix_id, members__user=self.user.pk)

    @database_sync_to_async
    def _may_listen(self) -> bool:
        """Whether this person is still signed in and a member of the mix."""
        return still_signed_in(self.scope, self.user) and self._own_mix().exists()

    async def _watch_rights(self) -> None:
        while await self._may_listen():
            await asyncio.sleep(_LOOK_EVERY_S)
        await self._put_out()

    async def _put_out(self) -> None:
        said = {"message": self.put_out, "stopped": True}
        await self.send(text_data=json.dumps(said))
        await self.close()

    def _tell(self, *message: Any) -> None:
        if self._pipe is not None:
            with suppress(BrokenPipeError, OSError):
                self._pipe.send(message)

    def _from_engine(self) -> None:
        try:
            while self._pipe is not None and self._pipe.poll():
                data = self._pipe.recv_bytes()
                if data[:1] == b"{":
                    self._count(json.loads(data))
                elif self._is_too_far_behind(len(data)):
                    continue
                self._out.put_nowait(data)
        except (EOFError, OSError):
            if self._pipe is not None:
                asyncio.get_running_loop().remove_reader(self._pipe.fileno())
            self._out.put_nowait(None)

    def _is_too_far_behind(self, length: int) -> bool:
        """Whether so much sound waits to be sent that this stretch is left out, which is said."""
        if self._waiting_bytes + length <= _MOST_WAITING_BYTES:
            self._waiting_bytes += length
            self._is_behind = False
            return False
        if not self._is_behind:
            self._is_behind = True
            self._out.put_nowait(json.dumps(_TOO_SLOW).encode())
        return True

    def _count(self, said: dict[str, Any]) -> None:
        """Keep what this listener costs the machine."""
        if "cores" in said:
            capacity.costs(self, said["cores"])
            self._tell("crowded", capacity.is_crowded)
        if said.get("ended") or said.get("stopped"):
            capacity.stops(self)

    async def _send_on(self) -> None:
        while (data := await self._out.get()) is not None:
            if data[:1] == b"{":
                await self.send(text_data=data.decode())
            else:
                await self.send(bytes_data=data)
                self._waiting_bytes -= len(data)
        await self.send(text_data=json.dumps(_BROKE_OFF))
        await self.close()

    async def _follow(self) -> None:
        """Give the engine the mix, and give it anew whenever it changes."""
        async with AsyncExitStack() as stack:
            changed = self._changed = await stack.enter_async_context(watch.on(self.mix_id))
            changed.set()
            while await changed.wait():
                changed.clear()
                try:
                    document, edits = await self._now()
                except Mix.DoesNotExist:
                    await self._put_out()
                    return
                except InputError as error:
                    await self._say(error)
                    continue
                known, self._known = self._known, document
                new = find_difference(known, document) if known else document
                self._tell("document", NOW, new, edits)
                if NOW not in self._given:
                    self._given.add(NOW)
                    await self.send(text_data=json.dumps({"ready": True}))

    async def _say(self, error: InputError) -> None:
        await self.send(text_data=json.dumps({"message": str(error)}))

    async def receive(self, text_data: str | None = None, bytes_data: bytes | None = None) -> None:
        try:
            if text_data is None or len(text_data) > _LONGEST_MESSAGE:
                raise InputError(UNREADABLE)
            await self._answer(data_in(text_data))
        except InputError as error:
            await self._say(error)
        except (ValueError, KeyError, TypeError, AttributeError, OverflowError):
            await self._say(InputError(UNREADABLE))

    async def _answer(self, message: dict[str, Any]) -> None:
        if "state" in message:
            await self._state(message["state"])
        elif "preview" in message:
            if self._may_edit:  # let it be heard while the hand moves; nothing is kept
                edit = message.get("edit")
                self._tell(
                    "preview",
                    await self._tried(message["preview"]),
                    str(message["control"]),
                    str(edit) if edit else None,
                )
        elif "release" in message:
            self._tell("release", str(message["release"]))
        elif message["do"] == "play" and not capacity.admits(self):
            said = (
                f"This machine is carrying {capacity.playing} listeners and has no room for one "
                "more; press Play again when somebody has stopped."
            )
            await self.send(text_data=json.dumps({"message": said, "stopped": True, "full": True}))
        else:
            wish = Wish.model_validate(message)
            if wish.do == "pause":
                capacity.stops(self)
            self._tell("do", wish.model_dump())

    @database_sync_to_async
    def _tried(self, preview: Any) -> dict[str, Any]:
        return _tried(preview, self._row(), self.user)

    @database_sync_to_async
    def _settings(self, state: Any) -> tuple[Hearing, list[Forgotten]]:
        return read_settings(state, self._row(), self.user)

    async def _state(self, state: Any) -> None:
        wanted, forgotten = await self._settings(state)
        for side in ("a", "b"):
            source = getattr(wanted.monitor_sources, side).source
            if source in self._given:
                continue
            try:
                self._tell("document", source, await self._document(source), [])
                self._given.add(source)
            except InputError as error:
                forgotten.append(Forgotten(("monitor_sources", side, "source"), str(error)))
                wanted = _from_now(wanted, side)
        for one in forgotten:
            said = {"message": one.sentence, "forget": one.path}
            await self.send(text_data=json.dumps(said))
        heard = {wanted.monitor_sources.a.source, wanted.monitor_sources.b.source}
        if len(self._given) > _MOST_SOURCES:
            for source in self._given - heard - {NOW}:
                self._tell("forget", source)
            self._given &= {*heard, NOW}
        self._tell("state", wanted.model_dump())

    @database_sync_to_async
    def _document(self, source: str) -> Document:
        return document_heard(self._row(), source)

    @database_sync_to_async
    def _now(self) -> tuple[Document, list[str]]:
        """The mix as it is kept, and the ids of the edits that came with it since it was last
        given.
        """
        mix = self._row()
        later = JournalEntry.objects.filter(
            mix=mix, revision__gt=self._revision, revision__lte=mix.revision
        )
        edits = (
            []
            if self._revision < 0
            else list(later.exclude(edit="").values_list("edit", flat=True))
        )
        self._revision = mix.revision
        return document_heard(mix, NOW), edits

    def _row(self) -> Mix:
        return self._own_mix().get()
