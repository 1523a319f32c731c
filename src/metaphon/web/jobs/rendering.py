"""One render from rows to published files: nothing is seen of it until it is whole."""

import json
import tempfile
from collections.abc import Sequence
from dataclasses import asdict
from pathlib import Path

from django.conf import settings
from django.db import transaction

from metaphon.core.checks.rules import check
from metaphon.core.engine.downmix import fold_down_correlation
from metaphon.core.engine.levels import StripMeters
from metaphon.core.engine.offline import Result, outputs_of, render_to_files
from metaphon.core.engine.plan import Plan, compile
from metaphon.core.engine.render import Output
from metaphon.core.engine.report import as_text, entry, report_name
from metaphon.core.spatial.downmix import Shares
from metaphon.core.spatial.head import SHIPPED
from metaphon.web.jobs.models import Render, RenderFile
from metaphon.web.jobs.progress import Interrupted, Teller
from metaphon.web.mixes.models import discard
from metaphon.web.mixes.recordings import keep
from metaphon.web.mixes.snapshots import document_of
from metaphon.web.mixes.space import require_space


def run(render: Render) -> None:
    """Render, measure and publish. Raises Interrupted, or InputError in one sentence."""
    options = render.options
    mix = document_of(render.mix)
    plan = compile(mix)
    head = Path(settings.MEDIA_ROOT) / options["head"] if options.get("head") else SHIPPED
    outputs = outputs_of(mix, plan, options["targets"], options["stems"], head)
    meters = StripMeters(plan)
    require_space(render.mix, _needed_bytes(plan, outputs, options["bits"]))
    scratch = Path(settings.MEDIA_ROOT) / "scratch"
    scratch.mkdir(parents=True, exist_ok=True)
    Render.objects.filter(pk=render.pk, status=Render.Status.WAITING).update(
        status=Render.Status.RUNNING
    )
    with tempfile.TemporaryDirectory(dir=scratch, prefix=f"render_{render.pk}_") as folder:
        results, speed = render_to_files(
            plan,
            outputs,
            Path(folder),
            container=options["container"],
            bits=options["bits"],
            on_progress=Teller(render),
            on_strips=meters.add,
        )
        findings = [asdict(finding) for finding in check(mix, meters.finish())]
        entries = [{**entry(result), "path": result.path.name} for result in results]
        report = Path(folder) / report_name(mix.title, "txt")
        report.write_text(as_text(mix, entries, findings, options["bits"]), encoding="utf-8")
        summary = Path(folder) / report_name(mix.title, "json")
        told = {
            "title": mix.title,
            "files": entries,
            "speed_x_realtime": round(speed, 2),
            "findings": findings,
        }
        summary.write_text(json.dumps(told, indent=1, ensure_ascii=False), encoding="utf-8")
        rows = [_result_row(render, result, mix.fold_down.shares) for result in results]
        rows += [_row(render, "report", report), _row(render, "json", summary)]
        with transaction.atomic():
            still = Render.objects.select_for_update().filter(pk=render.pk).first()
            if still is None or still.status != Render.Status.RUNNING:
                discard(*(file.file for file in rows))
                raise Interrupted
            RenderFile.objects.bulk_create(rows)
            still.status, still.progress = Render.Status.DONE, 1.0
            still.speed_x_realtime, still.findings = speed, findings
            still.save()


def _needed_bytes(plan: Plan, outputs: Sequence[Output], bits: str) -> int:
    """What the files take where they are not packed."""
    sample = 4 if bits == "32f" else int(bits) // 8
    return plan.frames * sample * sum(output.target.channels for output in outputs)


def _row(render: Render, kind: str, path: Path) -> RenderFile:
    row = RenderFile(render=render, kind=kind, name=path.name, bytes=path.stat().st_size)
    keep(row.file, path.name, path)
    return row


def _result_row(render: Render, result: Result, shares: Shares) -> RenderFile:
    target = result.output.target
    history = asdict(result.history)
    if target.channels != 2:
        history["correlation"] = fold_down_correlation(result.path, target, shares)
    row = _row(render, "audio", result.path)
    row.target, row.stem = target.name, result.output.stem or ""
    row.figures = {**asdict(result.figures), "clipped_samples": result.clipped_samples}
    row.history = history
    return row
