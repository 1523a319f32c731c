"""One render from rows to published files: nothing is seen of it until it is whole."""

import json
from collections.abc import Iterator, Sequence
from dataclasses import asdict
from pathlib import Path
from typing import Any

from django.db import InterfaceError, OperationalError, transaction

from metaphon.core.checks.finding import Finding
from metaphon.core.checks.rules import check
from metaphon.core.document.handover import Handover, asked
from metaphon.core.engine.downmix import fold_down_correlation
from metaphon.core.engine.making import Result, Run
from metaphon.core.engine.report import as_text, report, report_name
from metaphon.core.files.wave_chunks import chunk
from metaphon.core.spatial.downmix import Shares
from metaphon.web.jobs.models import Render, RenderFile, RenderPart
from metaphon.web.jobs.parts import Begin, Parts
from metaphon.web.jobs.progress import Interrupted
from metaphon.web.jobs.workers import workers_alive
from metaphon.web.mixes.events import READY, tell
from metaphon.web.mixes.models import Mix, discard
from metaphon.web.mixes.recordings import keep
from metaphon.web.mixes.space import require_space


def run(render: Render, begin: Begin) -> None:
    """Render the mix as it was asked for, measure and publish.

    Alone it goes through all parts, and through what is left of them where a worker was killed.
    With others it has them begun by whoever is free.

    Raises Interrupted, or InputError in one sentence.
    """
    parts = Parts(render)
    workers = workers_alive()
    with transaction.atomic():
        if not render.parts.exists():
            require_space(render.mix, _needed_bytes(parts.runs, parts.asked))
            parts.divide(workers)
        Render.objects.filter(pk=render.pk, status=Render.Status.WAITING).update(
            status=Render.Status.RUNNING
        )
        if workers > 1:
            for part in parts.open_ones():
                begin(part)
            return
    try:
        while waiting := parts.open_ones():
            parts.do(waiting[0])
            parts.close(waiting[0], begin=_next)
        _publish(render, parts)
    except (
        OperationalError,
        InterfaceError,
    ):  # what is done of it is gone on with once the database is back
        raise
    except Exception:
        parts.forget()
        raise


def _next(part: RenderPart) -> None:
    """Who is alone comes to it next."""


def run_part(part: RenderPart, begin: Begin) -> None:
    """Do one part with other workers, and have begun what waited for it. The last one publishes.

    Raises Interrupted, or InputError in one sentence.
    """
    render = part.render
    parts = Parts(render)
    try:
        if not part.is_over:
            parts.do(part)
        if parts.close(part, begin):
            _publish(render, parts)
    except (OperationalError, InterfaceError):
        raise
    except Exception as error:
        parts.forget()
        # where another worker has given up, it took away what this one was working on
        if not Render.objects.filter(pk=render.pk, status=Render.Status.RUNNING).exists():
            raise Interrupted from error
        raise


def _publish(render: Render, parts: Parts) -> None:
    """Write the reports, and show everything at once."""
    mix, wanted = parts.mix, parts.asked
    results, speed = parts.results(), parts.speed_x_realtime
    findings = _with_reasons(render.mix, check(mix, parts.levels()))
    told = report(mix, wanted, results, findings, label=render.label, revision=render.revision)
    text = parts.folder / report_name(mix.title, "txt")
    text.write_text(as_text(told), encoding="utf-8")
    summary = parts.folder / report_name(mix.title, "json")
    summary.write_text(json.dumps(told, indent=1, ensure_ascii=False), encoding="utf-8")
    rows = [_row(render, "xml", path) for path in _definitions(results)]
    rows += [
        _result_row(render, result, entry, mix.fold_down.shares)
        for result, entry in zip(results, told["files"], strict=True)
    ]
    rows += [_row(render, "report", text), _row(render, "json", summary)]
    with transaction.atomic():
        still = Render.objects.select_for_update().filter(pk=render.pk).first()
        if still is None or still.status != Render.Status.RUNNING:
            discard(*(file.file for file in rows))
            raise Interrupted
        RenderFile.objects.bulk_create(rows)
        still.status, still.progress = Render.Status.DONE, 1.0
        still.speed_x_realtime, still.findings = speed, findings
        still.files_ready = still.files_wanted = len(results)
        still.save()
        tell(render.mix, READY, handover=render.pk, label=render.label, files=len(results))
    parts.forget()


def _with_reasons(mix: Mix, findings: Sequence[Finding]) -> list[dict[str, Any]]:
    """Findings as plain data, each with why it was left where somebody has said so."""
    reasons = {(one.rule, one.subject, one.other): one.reason for one in mix.left_findings.all()}
    return [
        {**asdict(one), "left_because": reasons.get((one.rule, one.subject, one.other), "")}
        for one in findings
    ]


def asked_of(render: Render) -> Handover:
    """What a render was asked for."""
    return asked(render.options)


def begins_s(file: RenderFile) -> float:
    """Where in the mix the first sample of a result lies; before 0 where silence leads in."""
    wanted = asked_of(file.render)
    return wanted.start_s - wanted.lead_s


def between(new: RenderFile, old: RenderFile) -> tuple[float, float]:
    """How much later one result begins than another, in seconds of the mix, and the gain in dB that
    brings the other to its level.
    """
    gain_db = new.figures.get("gain_db", 0.0) - old.figures.get("gain_db", 0.0)
    return begins_s(new) - begins_s(old), gain_db


def _needed_bytes(runs: Sequence[Run], wanted: Handover) -> int:
    """What the files take where they are not packed."""
    plan = runs[0].plan
    sample = 4 if wanted.bits == "32f" else int(wanted.bits) // 8
    channels = sum(output.target.channels for run in runs for output in run.outputs)
    seconds = plan.duration_s + wanted.lead_s + wanted.tail_s
    return round(seconds * (wanted.rate_hz or plan.rate_hz) * sample * channels)


def _definitions(results: Sequence[Result]) -> Iterator[Path]:
    """What files with positions say, as text beside them."""
    for result in results:
        if result.output.contents:
            path = result.path.with_suffix(".xml")
            path.write_bytes(chunk(result.path, b"axml") or b"")
            yield path


def _row(render: Render, kind: str, path: Path) -> RenderFile:
    row = RenderFile(render=render, kind=kind, name=path.name, bytes=path.stat().st_size)
    keep(row.file, path.name, path)
    return row


def _result_row(
    render: Render, result: Result, entry: dict[str, Any], shares: Shares
) -> RenderFile:
    target = result.output.target
    history = asdict(result.history)
    if target.channels != 2 and not result.output.contents:
        history["correlation"] = fold_down_correlation(result.path, target, shares)
    row = _row(render, "audio", result.path)
    row.target, row.stem = target.name, result.output.stem or ""
    if result.output.alternative:
        row.alternative = result.output.alternative.id
    row.figures, row.history = entry, history
    return row
