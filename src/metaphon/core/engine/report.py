"""What was delivered and what was measured of it: as JSON for programs and as text for people."""

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import asdict
from pathlib import Path
from typing import Any

from metaphon.core.document.handover import FileForm, Handover
from metaphon.core.document.mix import Mix
from metaphon.core.document.targets import Target
from metaphon.core.engine.naming import safe_title
from metaphon.core.engine.offline import Result
from metaphon.core.engine.sums import sums_of
from metaphon.core.measure.loudness_limits import judged

_JUDGED = {"pass": "Passes", "warn": "Close", "fail": "Fails"}

_LINES = (
    ("Integrated loudness", "integrated_lufs", "LUFS"),
    ("Loudness range", "loudness_range_lu", "LU"),
    ("Highest short-term", "max_short_term_lufs", "LUFS"),
    ("Highest momentary", "max_momentary_lufs", "LUFS"),
    ("True peak", "true_peak_dbtp", "dBTP"),
    ("Sample peak", "sample_peak_dbfs", "dBFS"),
    ("Correlation", "correlation", ""),
    ("Fold-down loss", "fold_down_loss_db", "dB"),
)


def report(
    mix: Mix,
    asked: Handover,
    results: Sequence[Result],
    findings: Sequence[Mapping[str, str]],
    *,
    label: str = "",
    revision: int = 0,
) -> dict[str, Any]:
    """All that is known of a handover, as plain data: what was asked, each file, findings."""
    return {
        "title": mix.title,
        "label": label,
        "revision": revision,
        "asked": asked.model_dump(mode="json"),
        "files": [_entry(mix, asked, result) for result in results],
        "sums": [asdict(found) for found in sums_of(results)],
        "findings": list(findings),
    }


def _entry(mix: Mix, asked: FileForm, result: Result) -> dict[str, Any]:
    target = result.output.target
    verdict = judged(result.figures, asked.limits)
    return {
        "path": result.path.name,
        "target": target.name,
        "layout": target.title,
        "stem": result.output.stem,
        "channel_labels": list(target.channel_labels),
        **asdict(result.figures),
        "clipped_samples": result.clipped_samples,
        "gain_db": round(result.gain_db, 2),
        "reduction_db": round(result.reduction_db, 2),
        "verdict": None if result.output.stem else asdict(verdict),
        "left_out": left_out(mix, target),
        "bytes": result.path.stat().st_size,
        "sha256": _digest(result.path),
    }


def _digest(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def report_name(title: str, suffix: str) -> str:
    """The name of the report beside the files of a render."""
    return f"{safe_title(title)}_report.{suffix}"


def left_out(mix: Mix, target: Target) -> list[str]:
    """What this target does not contain of the mix, in sentences."""
    said = []
    if target.name == "binaural" or (target.layout and not any(target.layout.is_lfe)):
        kept = mix.fold_down.lfe_db
        said.append(
            "The LFE is left out."
            if kept is None
            else f"The LFE is kept at {kept:g} dB on both sides."
        )
    flat = target.layout is not None and not any(
        elevation for _, elevation in target.layout.angles_deg
    )
    if flat and any(
        strip.placement.mode == "object" and strip.placement.elevation_deg for strip in mix.strips
    ):
        said.append("Height is lost; objects above or below are spread over ear level.")
    return said


def as_text(told: Mapping[str, Any]) -> str:
    """A report, as `report` gives it, for people."""
    lines = [told["title"], "=" * len(told["title"]), ""]
    lines += [f"{told['label']}, revision {told['revision']}", ""] if told["label"] else []
    for row in told["files"]:
        heading = f"{row['layout']}, stem of {row['stem']}" if row["stem"] else row["layout"]
        lines += [heading, "-" * len(heading), f"File                 {row['path']}"]
        lines.append(f"Duration             {row['duration_s']:.3f} s")
        bits = told["asked"]["bits"].replace("f", " float")
        lines.append(f"Samples              {row['sample_rate_hz']} Hz, {bits} bit")
        lines.append(f"Channels             {row['channels']}: {', '.join(row['channel_labels'])}")
        for title, key, unit in _LINES:
            if row[key] is not None:
                lines.append(f"{title:<20} {row[key]:.2f} {unit}".rstrip())
        if row["gain_db"] or row["reduction_db"]:
            limited = f", limited by up to {row['reduction_db']:.1f} dB"
            lines.append(
                f"Level                {row['gain_db']:+.2f} dB"
                + (limited if row["reduction_db"] else "")
            )
        if row["clipped_samples"]:
            lines.append(f"Clipped              {row['clipped_samples']} samples exceed full scale")
        if row["near_full_scale_samples"]:
            lines.append(
                f"Near full scale      {row['near_full_scale_samples']} samples within 0.1 dB of it"
            )
        if row["verdict"]:
            lines.append(f"{_JUDGED[row['verdict']['word']]:<20} {row['verdict']['said']}")
        lines += [f"SHA-256              {row['sha256']}", *row["left_out"], ""]
    if told["sums"]:
        lines += ["Stems", "-----", *(found["said"] for found in told["sums"]), ""]
    lines += ["Findings", "--------"]
    lines += [
        f"{finding['severity'].capitalize()}: {finding['message']}" for finding in told["findings"]
    ] or ["None."]
    return "\n".join(lines) + "\n"
