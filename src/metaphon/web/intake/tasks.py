"""Checking a recording that has arrived, beside the web server, and making a track of it."""

import logging
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from procrastinate.contrib.django import app

from metaphon.core.edits.command import Command
from metaphon.core.edits.registry import Batch
from metaphon.core.edits.structure import AddTrack
from metaphon.core.edits.values import SetValue
from metaphon.core.errors import InputError, MachineBusy
from metaphon.core.files.timecode_track import write_recorder_take, write_timecode
from metaphon.core.measure.timecode import RATES, read_timecode, seconds_of
from metaphon.web.intake.models import Arrival
from metaphon.web.mixes import journal
from metaphon.web.mixes.models import AudioFile, discard
from metaphon.web.mixes.recordings import store, track_of, unsaid
from metaphon.web.mixes.snapshots import document_of
from metaphon.web.mixes.stored_files import local_path
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
    row = _waiting(arrival_id)
    if row is None:
        return
    try:
        _take_in(row, row.join, lambda audio: track_of(audio, document_of(row.mix)))
    except MachineBusy as error:
        rows = Arrival.objects.filter(pk=row.pk)
        if attempt < _ATTEMPTS:
            rows.update(progress=0.0, message=str(error)[:1000])
            later = check_arrival.configure(schedule_in={"seconds": _LATER_S * attempt})
            later.defer(arrival_id=arrival_id, attempt=attempt + 1)
        else:
            rows.update(status=Arrival.Status.FAILED, message=str(error)[:1000])


@app.task(name="make_timecode", queue="arrivals")
def make_timecode(
    *, arrival_id: int, rate: str, start: str, length_s: float, frames_ahead: int | None = None
) -> None:
    """Write timecode as long as a mix and set it on a track of its own, deactivated.

    Where `frames_ahead` is given, as the simulated recorder takes it up.
    """
    row = _waiting(arrival_id)
    if row is None:
        return
    frame_rate = RATES[rate]
    first = read_timecode(start, frame_rate)

    def write(path: Path) -> None:
        rate_hz = row.mix.sample_rate_hz
        if frames_ahead is None:
            write_timecode(path, first, frame_rate, length_s, rate_hz)
        else:
            write_recorder_take(path, first, frame_rate, length_s, rate_hz, frames_ahead)

    def as_track(audio: AudioFile) -> Command:
        if frames_ahead is None:
            audio.time_reference_s = seconds_of(first, frame_rate)
            audio.save(update_fields=["time_reference_s"])
        document = document_of(row.mix)
        track = AddTrack(name=Path(row.name).stem, file=local_path(audio), mode="bed")
        made = track.apply(document).tracks[-1].id
        return Batch(commands=(track, SetValue(strips=(made,), path="resting", value=True)))

    try:
        _take_in(row, write, as_track)
    except MachineBusy as error:
        rows = Arrival.objects.filter(pk=row.pk)
        rows.update(status=Arrival.Status.FAILED, message=str(error)[:1000])


def _waiting(arrival_id: int) -> Arrival | None:
    rows = Arrival.objects.select_related("mix", "user")
    return rows.filter(pk=arrival_id, status=Arrival.Status.CHECKING).first()


def _take_in(
    row: Arrival, fetch: Callable[[Path], None], as_track: Callable[[AudioFile], Command]
) -> None:
    """Check what is fetched and make a track of it, or say in the row why not.

    Raises MachineBusy.
    """
    rows = Arrival.objects.filter(pk=row.pk)  # none any more, once it is cancelled
    try:
        with tempfile.TemporaryDirectory(dir=scratch()) as folder:
            path = Path(folder) / "arrived"
            fetch(path)
            audio = store(row.mix, path, row.name, _Teller(row))
        if not rows.exists():
            audio.delete()
            discard(audio.file, audio.original, audio.waveform)
            return
        made = journal.apply(row.mix, row.user, as_track(audio))
        row.track = made.after.tracks[-1].name
        row.message = " ".join(filter(None, (*audio.notices, unsaid(audio))))[:1000]
        row.status = Arrival.Status.DONE
    except _Cancelled:
        return
    except MachineBusy:
        raise
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
