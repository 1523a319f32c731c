"""Somebody who listens to a mix by a link, without an account."""

from typing import Any

from channels.db import database_sync_to_async
from django.db.models import QuerySet

from metaphon.core.errors import InputError
from metaphon.web.listen.consumer import Listener
from metaphon.web.mixes.models import Mix
from metaphon.web.shell.posted import as_object
from metaphon.web.together.models import Share
from metaphon.web.together.sharing import live_by


class Guest(Listener):
    """Hears the mix as it is now on one of its targets, and nothing else of it."""

    put_out = "This link is over or was taken back; ask for another."

    @database_sync_to_async
    def _enter(self) -> Mix | None:
        share = live_by(self.scope["url_route"]["kwargs"]["text"], self.scope["session"])
        if share is None:
            return None
        self.user = self.scope["user"]
        self.mix_id = share.mix_id
        self._share = share.pk
        self._who = "share", share.pk
        self._may_edit = False
        return share.mix

    def _own_mix(self) -> QuerySet[Mix]:
        """The mix, as long as the link to it is there."""
        return Mix.objects.filter(shares__pk=self._share)

    @database_sync_to_async
    def _may_listen(self) -> bool:
        share = Share.objects.filter(pk=self._share).first()
        return share is not None and share.is_open

    async def _state(self, state: dict[str, Any]) -> None:
        sides = as_object(as_object(state).get("monitor_sources"))
        target = as_object(sides.get("a")).get("target")
        if not isinstance(target, str):
            raise InputError("Choose what to hear it on from the list.")
        await super()._state({"monitor_sources": {"a": {"target": target}}, "monitor": {}})
