"""How a worker tells how far it is, and hears that it should stop."""

import time

from metaphon.core.engine.offline import Cancelled, Progress
from metaphon.web.jobs.models import Work

TELL_EVERY_S = 0.4


class Interrupted(Cancelled):
    """Somebody asked for the work to stop, or removed it."""


class Teller:
    """Writes progress to the row now and then, and hears there whether to stop."""

    def __init__(self, row: Work) -> None:
        self._rows = type(row)._default_manager.filter(pk=row.pk, status=Work.Status.RUNNING)
        self._told = 0.0

    def __call__(self, progress: Progress) -> None:
        if time.monotonic() - self._told < TELL_EVERY_S:
            return
        self._told = time.monotonic()
        if not self._rows.update(
            progress=progress.done, speed_x_realtime=progress.speed_x_realtime
        ):
            raise Interrupted
