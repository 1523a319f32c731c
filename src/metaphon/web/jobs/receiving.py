"""The simulated platform at work on files that were sent to it."""

from pathlib import Path

from django.core.files.storage import default_storage

from metaphon.core.checks.acceptance import received
from metaphon.core.errors import InputError
from metaphon.core.files.apart import MEMORY_BYTES, TooMuch, work_apart
from metaphon.web.jobs.models import Submission, Work
from metaphon.web.jobs.progress import Interrupted

_SECONDS = 3600.0


def run(row: Submission) -> None:
    """Check a file. Raises Interrupted, or InputError in one sentence."""
    if row.file is None:
        raise InputError("The file was removed before it arrived; hand over again and send it.")
    rows = Submission.objects.filter(pk=row.pk)
    rows.filter(status=Work.Status.WAITING).update(status=Work.Status.RUNNING)
    path = Path(default_storage.path(str(row.file.file.name)))
    limits = MEMORY_BYTES, _SECONDS
    try:
        receipt = work_apart(received, path, row.name, row.options["rules"], limits=limits)
    except TooMuch:
        raise InputError("The platform could not read this file; hand over again.") from None
    done = {"status": Work.Status.DONE, "progress": 1.0, "figures": receipt.told()}
    if not rows.filter(status=Work.Status.RUNNING).update(**done):
        raise Interrupted
