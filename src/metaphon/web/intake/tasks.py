"""Checking a recording that has arrived, beside the web server, and making a track of it."""

import logging
import tempfile
import time
from pathlib import Path

from procrastinate.contrib.django import app

from metaphon.core.errors import InputError, MachineBusy
from metaphon.web.intake.models import Arrival
from metaphon.web.mixes import journal
from metaphon.web.mixes.models import discard
from metaphon.web.mixes.recordings import store, track_of, unsaid
from metaphon.web.mixes.snapshots import document_of
from metaphon.web.storage import scratch

log = logging.getLogger(__name__)
_TELL_EVERY_S = 0.3
_ATTEMPTS = 4
_LATER_S = 20  # longer with each attempt


@app.task(name="check_arrival", queue="arrivals")
def check_arrival(*, arrival_id: int, attempt: int = 1) -> None:
    """Check a recording from end to end and set it on a track of its own, or say why not.

    Where the machine is too busy for it, it is tried again later; the file is kept for that.
    """
    row = Arrival.objects.select_related("mix", "user").filter(pk=arrival_id).first()
    if row is None or row.status != Arrival.Status.CHECKING:
        return
    rows = Arrival.objects.filter(pk=row.pk)  # none any more, once it is cancelled
    try:
        with tempfile.TemporaryDirectory(dir=scratch()) as folder:
            path = Path(folder) / "arrived"
            row.join(path)
            audio = store(row.mix, path, row.name, _Teller(row))
        if not rows.exists():
            audio.delete()
            discard(audio.file, audio.original, audio.waveform)
            return
        made = journal.apply(row.mix, row.user, track_of(audio, document_of(row.mix)))
        row.track = made.after.tracks[-1].name
        row.message = " ".join(filter(None, (*audio.notices, unsaid(audio))))[:1000]
        row.status = Arrival.Status.DONE
    except _Cancelled:
        return
    except MachineBusy as error:
        if attempt < _ATTEMPTS:
            rows.update(progress=0.0, message=str(error)[:1000])
            later = check_arrival.configure(schedule_in={"seconds": _LATER_S * attempt})
            later.defer(arrival_id=arrival_id, attempt=attempt + 1)
            return
        row.status, row.message = Arrival.Status.FAILED, str(error)[:1000]
    except InputError as error:
        row.status, row.message = Arrival.Status.FAILED, str(error)[:1000]
        row.let_go()
    except Exception:
        if not rows.exists():
            return
        row.status = Arrival.Status.FAILED
        row.message = f"{row.name} could not be taken in through a fault of the program; try again."
        log.exception("arrival %s", row.pk)
    else:
        row.let_go()
    rows.update(status=row.status, message=row.message, track=row.track)


class _Cancelled(Exception):
    """Whoever sent the recording does not want it any more."""


class _Teller:
    """Writes how far it is to the row, now and then."""

    def __init__(self, row: Arrival) -> None:
        self._rows = Arrival.objects.filter(pk=row.pk)
        self._told = 0.0

    def __call__(self, done: float) -> None:
        if time.monotonic() - self._told >= _TELL_EVERY_S:
            self._told = time.monotonic()
            if not self._rows.update(progress=done):
                raise _Cancelled
