"""How a worker tells how far it is, and hears that it should stop."""

import time

from metaphon.core.engine.offline import Cancelled, Progress
from metaphon.web.jobs.models import Render, Work

_TELL_EVERY_S = 0.4


class Interrupted(Cancelled):
    """Somebody asked for the work to stop, or removed it."""


class Teller:
    """Writes progress to the row now and then, and hears there whether to stop."""

    def __init__(self, row: Work) -> None:
        self._rows = type(row)._default_manager.filter(pk=row.pk, status=Work.Status.RUNNING)
        self._counts = isinstance(row, Render)
        self._told = 0.0

    def __call__(self, progress: Progress) -> None:
        if time.monotonic() - self._told < _TELL_EVERY_S:
            return
        self._told = time.monotonic()
        told: dict[str, object] = {
            "progress": progress.done,
            "speed_x_realtime": progress.speed_x_realtime,
        }
        if self._counts:
            told |= {"files_ready": progress.files, "files_wanted": progress.of_files}
        if not self._rows.update(**told):
            raise Interrupted
