"""What was delivered and what was measured of it: as JSON for programs and as text for people."""

import hashlib
import os
from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import asdict
from functools import partial
from pathlib import Path
from typing import Any

from metaphon.core.document.handover import FileForm, Handover
from metaphon.core.document.mix import Mix
from metaphon.core.document.targets import Target
from metaphon.core.engine.conformance import conformance
from metaphon.core.engine.downmixes import LFE_ABOVE_DB, downmix_of, headphones_against_stereo
from metaphon.core.engine.fewer_objects import fewer_objects
from metaphon.core.engine.making import Result
from metaphon.core.engine.naming import safe_title
from metaphon.core.engine.sums import sums_of
from metaphon.core.files.channel_labels import mask_of
from metaphon.core.measure.loudness_limits import Verdict, Word, judged

_GRAVITY: tuple[Word, ...] = ("pass", "warn", "fail")
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
    with ThreadPoolExecutor(os.cpu_count() or 2, "files") as pool:
        entries = list(pool.map(partial(_entry, mix, asked), results))
    return {
        "title": mix.title,
        "label": label,
        "revision": revision,
        "asked": asked.model_dump(mode="json"),
        "files": entries,
        "sums": [asdict(found) for found in sums_of(results, asked)],
        "fewer": [_fewer(mix, count) for count in dict.fromkeys(asked.objects)],
        "headphones": headphones_against_stereo(results),
        "findings": list(findings),
    }


def _entry(mix: Mix, asked: FileForm, result: Result) -> dict[str, Any]:
    target = result.output.target
    verdict = _judged(result, asked)
    rate_hz = asked.rate_hz or mix.sample_rate_hz
    checks = conformance(result.path, target, rate_hz, asked.bits, result.figures.integrated_lufs)
    folded = None if result.output.stem else downmix_of(result, mix.fold_down.shares)
    named = list(zip(target.channel_labels, result.channels, strict=True))
    return {
        "path": result.path.name,
        "target": target.name,
        "layout": target.title,
        "stem": result.output.stem,
        "stem_title": result.output.stem_title,
        "alternative": result.output.alternative.name if result.output.alternative else None,
        "channel_labels": labels_written(target, bool(result.output.contents)),
        **asdict(result.figures),
        "clipped_samples": result.clipped_samples,
        "gain_db": round(result.gain_db, 2),
        "reduction_db": round(result.reduction_db, 2),
        "verdict": None if result.output.stem else asdict(verdict),
        "left_out": left_out(mix, target),
        "conformance": [asdict(check) for check in checks],
        "downmix": asdict(folded) if folded else None,
        "each_channel": [{"label": label, **asdict(one)} for label, one in named],
        "silent_channels": [label for label, one in named if one.is_silent],
        "broken_channels": [label for label, one in named if one.breaks],
        "bytes": result.path.stat().st_size,
        "sha256": _digest(result.path),
    }


def _judged(result: Result, asked: FileForm) -> Verdict:
    """The gravest verdict on the programmes of a file, with the name of one that is not the mix."""
    own = judged(result.figures, asked.limits)
    if not result.output.contents or not result.others:
        return own
    names = [one.name for one in result.output.contents.definition.programmes[1:]]
    others = [
        (name, judged(figures, asked.limits))
        for name, figures in zip(names, result.others, strict=True)
    ]
    said = [f"{name}: {one.said}" for name, one in others if one.word != "pass"]
    word = max((own.word, *(one.word for _, one in others)), key=_GRAVITY.index)
    if own.word != "pass" or not said:
        said.insert(0, own.said)
    return Verdict(word, " ".join(said))


def labels_written(target: Target, is_defined: bool) -> list[str]:
    """The labels of a file's channels in their order in it; one that is defined has its own."""
    labels = list(target.channel_labels)
    if target.layout is None or is_defined:
        return labels
    return [labels[channel] for channel in mask_of(target.layout)[1]]


def _fewer(mix: Mix, count: int) -> dict[str, Any]:
    """What became of objects that are told as fewer."""
    found = fewer_objects(mix, count)
    names = {strip.id: strip.name for strip in mix.strips}
    objects = [{**asdict(one), "name": names[one.strip]} for one in found.objects]
    return {"most": count, "before": found.before, "objects": objects}


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
        part = f", stem: {row['stem_title'] or row['stem']}" if row["stem"] else ""
        part = f", {row['alternative']}" if row["alternative"] else part
        heading = f"{row['layout']}{part}"
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
        lines += _of_channels(row)
        lines += [f"SHA-256              {row['sha256']}", *row["left_out"], ""]
    if told["sums"]:
        lines += ["Stems", "-----", *(found["said"] for found in told["sums"]), ""]
    for one in told["fewer"]:
        title = f"At most {one['most']} of {one['before']} objects"
        lines += [title, "-" * len(title), *map(_displaced, one["objects"]), ""]
    if told["headphones"]:
        lines += ["Headphones", "----------", *told["headphones"], ""]
    lines += ["Findings", "--------"]
    lines += [_finding(one) for one in told["findings"]] or ["None."]
    return "\n".join(lines) + "\n"


def _of_channels(row: Mapping[str, Any]) -> list[str]:
    """What is to be said of single channels, of the downmix, and of the file read again."""
    said = []
    if row["silent_channels"]:
        said.append(f"Silent               {', '.join(row['silent_channels'])}")
    for one in row["each_channel"]:
        if one["breaks"]:
            said.append(
                f"Breaks off           {one['label']}, {one['breaks']} times, first at "
                f"{one['broken_s']:.2f} s"
            )
    folded = row["downmix"]
    if folded and folded["louder_lu"] is not None:
        said.append(
            f"In stereo            {folded['integrated_lufs']:.2f} LUFS "
            f"({folded['louder_lu']:+.1f} LU), {folded['true_peak_dbtp']:.2f} dBTP"
        )
    if folded and folded["lfe_above_db"] is not None and folded["lfe_above_db"] > LFE_ABOVE_DB:
        said.append(f"LFE                  {folded['lfe_above_db']:.1f} dB of it above 250 Hz")
    wrong = [one for one in row["conformance"] if not one["ok"]]
    said += [f"Not as asked         {one['asked']}: {one['found']}" for one in wrong]
    if not wrong:
        said.append("Read again           as asked")
    return said


def _finding(finding: Mapping[str, str]) -> str:
    left = f" Left: {finding['left_because']}" if finding.get("left_because") else ""
    return f"{finding['severity'].capitalize()}: {finding['message']}{left}"


def _displaced(one: Mapping[str, Any]) -> str:
    off = "" if one["off_db"] is None else f", {one['off_db']:.1f} dB off"
    return (
        f"{one['name']:<20} {one['mean_deg']:.1f} degrees from its place, at most "
        f"{one['most_deg']:.1f}{off}"
    )
