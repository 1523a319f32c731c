"""Work that runs beside the web server."""

import logging
from collections.abc import Callable
from pathlib import Path
from typing import Any

from django.db import InterfaceError, OperationalError, transaction
from procrastinate import exceptions
from procrastinate.contrib.django import app
from procrastinate.contrib.django.models import ProcrastinateJob

from metaphon.core.edits.command import strip_of
from metaphon.core.errors import DISK_FULL, InputError, disk_is_full
from metaphon.web.jobs import (
    printing,
    receiving,
    rendering,
    reporting,
    simulating,
    surveying,
    sweeping,
)
from metaphon.web.jobs.models import (
    FoldDownReport,
    Print,
    Render,
    RenderPart,
    SpaceSimulation,
    Submission,
    TranslationReport,
    Work,
)
from metaphon.web.jobs.progress import Interrupted
from metaphon.web.mixes import events
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.snapshots import document_of

log = logging.getLogger(__name__)


@app.task(name="render_mix", queue="renders")
def render_mix(*, render_id: int) -> None:
    """Render a mix to files: alone, or in parts with other workers."""
    row = Render.objects.select_related("mix").filter(pk=render_id).first()
    _carry_out(row, lambda row: rendering.run(row, _begin))


@app.task(name="render_part", queue="renders", priority=1)  # what has begun comes first
def render_part(*, part_id: int) -> None:
    """Do one part of a render; the last one puts all of it together."""
    part = RenderPart.objects.select_related("render__mix").filter(pk=part_id).first()
    if part is not None:
        _carry_out(part.render, lambda _: rendering.run_part(part, _begin))


def _begin(part: RenderPart) -> None:
    render_part.defer(part_id=part.pk)


@app.task(name="print_strips", queue="prints")
def print_strips(*, print_id: int) -> None:
    """Print strips to new tracks."""
    _carry_out(
        Print.objects.select_related("mix", "user").filter(pk=print_id).first(), printing.run
    )


@app.task(name="report_fold_down", queue="reports")
def report_fold_down(*, report_id: int) -> None:
    """Measure what folding a mix down loses."""
    _carry_out(
        FoldDownReport.objects.select_related("mix").filter(pk=report_id).first(), reporting.run
    )


@app.task(name="report_translation", queue="reports")
def report_translation(*, report_id: int) -> None:
    """Measure a mix in every place it will meet."""
    _carry_out(
        TranslationReport.objects.select_related("mix").filter(pk=report_id).first(),
        reporting.run,
    )


_REPORTS = {FoldDownReport: report_fold_down, TranslationReport: report_translation}


def ask_for_report(
    kind: type[FoldDownReport] | type[TranslationReport],
    mix: Mix,
    user_id: int | None,
    strip_id: str,
) -> None:
    """Have a mix measured, with regard to a strip of it, or to all of it ("").

    Raises Vanished for a strip that is not there.
    """
    if strip_id:
        strip_of(document_of(mix), strip_id)
    with transaction.atomic():
        row = kind.objects.create(mix=mix, user_id=user_id, options={"strip": strip_id})
        _REPORTS[kind].defer(report_id=row.pk)


@app.task(name="receive_file", queue="reports")
def receive_file(*, submission_id: int) -> None:
    """Let the simulated platform check a file that was sent to it."""
    _carry_out(
        Submission.objects.select_related("mix", "file").filter(pk=submission_id).first(),
        receiving.run,
    )


@app.task(name="simulate_space", queue="spaces")
def simulate_space(*, simulation_id: int) -> None:
    """Make the responses of a space."""
    _carry_out(
        SpaceSimulation.objects.select_related("mix").filter(pk=simulation_id).first(),
        simulating.run,
    )


@app.task(name="survey_mix", queue="surveys")
def survey_mix(*, mix_id: int) -> None:
    """Listen through a mix for levels and faults."""
    mix = Mix.objects.filter(pk=mix_id).first()
    if mix is not None:
        surveying.run(mix)


@app.periodic(cron="17 * * * *")
@app.task(name="sweep", queue="upkeep", queueing_lock="sweep", pass_context=False)
def sweep(timestamp: int) -> None:
    """Give back what nobody needs, once an hour."""
    sweeping.sweep()


def ask_for_survey(mix: Mix) -> None:
    """Have a mix listened to, unless that is asked for already."""
    lock = f"survey {mix.pk}"
    if ProcrastinateJob.objects.filter(queueing_lock=lock, status="todo").exists():
        return
    try:
        with transaction.atomic():
            survey_mix.configure(queueing_lock=lock, lock=lock, priority=-1).defer(mix_id=mix.pk)
    except exceptions.AlreadyEnqueued:
        pass


def _carry_out(row: Any, run: Callable[[Any], None]) -> None:
    if row is None or not row.is_open:
        return
    try:
        run(row)
    except Interrupted:
        _end(row, Work.Status.CANCELLED)
    except InputError as error:
        _end(row, Work.Status.FAILED, _by_their_names(row, str(error)))
    except (OperationalError, InterfaceError):  # gone for a while; the row is taken over then
        log.exception("%s %s", type(row).__name__, row.pk)
        raise
    except Exception as error:
        if disk_is_full(error):
            _end(row, Work.Status.FAILED, DISK_FULL)
            return
        _end(
            row,
            Work.Status.FAILED,
            "This broke off through a fault of the program; it is in the log.",
        )
        log.exception("%s %s", type(row).__name__, row.pk)
        raise


def _by_their_names(row: Any, message: str) -> str:
    """Call recordings what people called them, not what storage does."""
    for audio in row.mix.audio_files.all():
        message = message.replace(Path(str(audio.file.name)).name, audio.name)
    return message


def _end(row: Work, status: Work.Status, message: str = "") -> None:
    rows = type(row)._default_manager.filter(pk=row.pk)
    open_ones = (Work.Status.WAITING, Work.Status.RUNNING, Work.Status.CANCELLING)
    with transaction.atomic():
        ended = rows.filter(status__in=open_ones).update(status=status, message=message[:500])
        if ended and status == Work.Status.FAILED and isinstance(row, Render):
            events.tell(row.mix, events.FAILED, handover=row.pk, message=message)
