"""Fold-down reports: measured beside the web server, the last of each strip kept."""

from dataclasses import asdict

from metaphon.core.checks.fold_down_report import fold_down_report
from metaphon.core.engine.offline import Progress
from metaphon.core.errors import InputError
from metaphon.core.files.apart import MEMORY_BYTES, TooMuch, work_apart
from metaphon.web.jobs.models import FoldDownReport
from metaphon.web.jobs.progress import Interrupted, Teller
from metaphon.web.jobs.surveying import key_of
from metaphon.web.mixes.snapshots import document_of

_SECONDS = 3600.0


def run(row: FoldDownReport) -> None:
    """Measure the mix as it is now. Raises Interrupted, or InputError in one sentence."""
    document = document_of(row.mix)
    FoldDownReport.objects.filter(pk=row.pk, status=FoldDownReport.Status.WAITING).update(
        status=FoldDownReport.Status.RUNNING
    )
    teller = Teller(row)
    try:
        found = work_apart(
            fold_down_report,
            document,
            row.options["strip"] or None,
            limits=(MEMORY_BYTES, _SECONDS),
            progress=lambda done: teller(Progress(done, 0.0)),
        )
    except TooMuch:
        raise InputError("This mix is too long for one report; measure a bus of it.") from None
    rows = FoldDownReport.objects.filter(pk=row.pk, status=FoldDownReport.Status.RUNNING)
    if not rows.update(
        status=FoldDownReport.Status.DONE,
        progress=1.0,
        key=key_of(document),
        figures=[asdict(one) for one in found],
    ):
        raise Interrupted
    row.mix.fold_down_reports.filter(options=row.options, pk__lt=row.pk).delete()
