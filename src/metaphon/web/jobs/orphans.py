"""Work that no worker holds and no queue: begun again, whatever its row says.

It comes about where the database went away while the end of a job was being written.
"""

from collections.abc import Iterator
from datetime import timedelta
from typing import Any

from django.db import models, transaction
from django.utils.timezone import now
from procrastinate.contrib.django.models import ProcrastinateJob
from procrastinate.tasks import Task

from metaphon.web.intake.models import Arrival
from metaphon.web.intake.tasks import check_arrival
from metaphon.web.jobs import tasks
from metaphon.web.jobs.models import (
    FoldDownReport,
    Print,
    Render,
    SpaceSimulation,
    Submission,
    TranslationReport,
    Work,
)

_SETTLED = timedelta(seconds=10)  # what is younger is being queued just now
_HELD = ("todo", "doing")
# by which task each kind of work is done, and what its row is called there
WORKS: dict[type[Work], tuple[Task[Any, Any, Any], str]] = {
    Render: (tasks.render_mix, "render_id"),
    Print: (tasks.print_strips, "print_id"),
    FoldDownReport: (tasks.report_fold_down, "report_id"),
    TranslationReport: (tasks.report_translation, "report_id"),
    Submission: (tasks.receive_file, "submission_id"),
    SpaceSimulation: (tasks.simulate_space, "simulation_id"),
}
_LOST = "This broke off while it was being taken in; bring it in again."


def take_over_orphans() -> int:
    """Begin again, or end, what is open and held by nobody; gives how much that was."""
    return sum(_take_over(row) for row in _orphans()) + _take_over_arrivals()


def _orphans() -> Iterator[Work]:
    for model, (task, name) in WORKS.items():
        rows = model._default_manager.filter(
            status__in=(Work.Status.WAITING, Work.Status.RUNNING, Work.Status.CANCELLING),
            created_at__lt=now() - _SETTLED,
        )
        for row in rows:
            jobs = models.Q(task_name=task.name, args__contains={name: row.pk})
            if isinstance(row, Render):
                parts = list(row.parts.values_list("pk", flat=True))
                jobs |= models.Q(task_name=tasks.render_part.name, args__part_id__in=parts)
            if not ProcrastinateJob.objects.filter(jobs, status__in=_HELD).exists():
                yield row


def _take_over(row: Work) -> bool:
    """End what was to be stopped, and begin the rest again."""
    task, name = WORKS[type(row)]
    with transaction.atomic():
        held = type(row)._default_manager.select_for_update().filter(pk=row.pk).first()
        if held is None or not held.is_open:
            return False
        if held.status == Work.Status.CANCELLING:
            held.status = Work.Status.CANCELLED
            held.save(update_fields=["status"])
        else:
            task.defer(**{name: row.pk})
    return True


def _take_over_arrivals() -> int:
    taken = 0
    waiting = Arrival.objects.filter(
        status=Arrival.Status.CHECKING, created_at__lt=now() - _SETTLED
    )
    for row in waiting:
        jobs = ProcrastinateJob.objects.filter(args__contains={"arrival_id": row.pk})
        if jobs.filter(status__in=_HELD).exists():
            continue
        taken += 1
        if row.has_pieces:
            check_arrival.defer(arrival_id=row.pk)
        else:
            failed = {"status": Arrival.Status.FAILED, "message": _LOST}
            Arrival.objects.filter(pk=row.pk, status=Arrival.Status.CHECKING).update(**failed)
    return taken
