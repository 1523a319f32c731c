"""Checking a recording that has arrived, beside the web server, and making a track of it."""

import logging
import tempfile
import time
from pathlib import Path

from procrastinate.contrib.django import app

from metaphon.core.errors import InputError
from metaphon.web.intake.models import Arrival
from metaphon.web.mixes import journal
from metaphon.web.mixes.recordings import store, track_of, unsaid
from metaphon.web.mixes.snapshots import document_of
from metaphon.web.storage import scratch

log = logging.getLogger(__name__)
_TELL_EVERY_S = 0.3


@app.task(name="check_arrival", queue="arrivals")
def check_arrival(*, arrival_id: int) -> None:
    """Check a recording from end to end and set it on a track of its own, or say why not."""
    row = Arrival.objects.select_related("mix", "user").filter(pk=arrival_id).first()
    if row is None or row.status != Arrival.Status.CHECKING:
        return
    try:
        with tempfile.TemporaryDirectory(dir=scratch()) as folder:
            path = Path(folder) / "arrived"
            row.join(path)
            audio = store(row.mix, path, row.name, _Teller(row))
        row.track = (
            journal.apply(row.mix, row.user, track_of(audio, document_of(row.mix)))
            .after.tracks[-1]
            .name
        )
        row.message = " ".join(filter(None, (*audio.notices, unsaid(audio))))[:1000]
        row.status = Arrival.Status.DONE
    except InputError as error:
        row.status, row.message = Arrival.Status.FAILED, str(error)[:1000]
    except Exception:
        row.status = Arrival.Status.FAILED
        row.message = f"{row.name} could not be taken in through a fault of the program; try again."
        log.exception("arrival %s", row.pk)
    finally:
        row.let_go()
    row.save(update_fields=["status", "message", "track"])


class _Teller:
    """Writes how far it is to the row, now and then."""

    def __init__(self, row: Arrival) -> None:
        self._rows = Arrival.objects.filter(pk=row.pk)
        self._told = 0.0

    def __call__(self, done: float) -> None:
        if time.monotonic() - self._told >= _TELL_EVERY_S:
            self._told = time.monotonic()
            self._rows.update(progress=done)
