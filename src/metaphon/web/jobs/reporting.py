"""Reports on a mix: measured beside the web server, the last of each kind and strip kept."""

from collections.abc import Callable
from dataclasses import asdict
from typing import Any

from metaphon.core.checks.fold_down_report import fold_down_report
from metaphon.core.checks.translation import translate
from metaphon.core.engine.offline import Progress
from metaphon.core.errors import InputError
from metaphon.core.files.apart import MEMORY_BYTES, TooMuch, work_apart
from metaphon.web.jobs.models import FoldDownReport, TranslationReport, Work
from metaphon.web.jobs.progress import Interrupted, Teller
from metaphon.web.jobs.surveying import key_of
from metaphon.web.mixes.snapshots import document_of

_SECONDS = 3600.0


Report = FoldDownReport | TranslationReport
# carried out in a process of their own, which knows the core alone
_WORK: dict[type[Report], Callable[..., Any]] = {
    FoldDownReport: fold_down_report,
    TranslationReport: translate,
}


def run(row: Report) -> None:
    """Measure the mix as it is now. Raises Interrupted, or InputError in one sentence."""
    document = document_of(row.mix)
    kept = type(row)._default_manager
    kept.filter(pk=row.pk, status=Work.Status.WAITING).update(status=Work.Status.RUNNING)
    teller = Teller(row)
    try:
        found = work_apart(
            _WORK[type(row)],
            document,
            row.options["strip"] or None,
            limits=(MEMORY_BYTES, _SECONDS),
            progress=lambda done: teller(Progress(done, 0.0)),
        )
    except TooMuch:
        raise InputError("This mix is too long for one report; measure a bus of it.") from None
    figures = [asdict(one) for one in found] if isinstance(found, list) else asdict(found)
    if not kept.filter(pk=row.pk, status=Work.Status.RUNNING).update(
        status=Work.Status.DONE, progress=1.0, key=key_of(document), figures=figures
    ):
        raise Interrupted
    kept.filter(mix=row.mix, options=row.options, pk__lt=row.pk).delete()
