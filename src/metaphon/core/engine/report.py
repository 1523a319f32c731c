"""What was delivered and what was measured of it: as JSON for programs and as text for people."""

from collections.abc import Mapping, Sequence
from dataclasses import asdict
from typing import Any

from metaphon.core.document.mix import Mix
from metaphon.core.document.targets import Target, target_named
from metaphon.core.engine.naming import safe_title
from metaphon.core.engine.offline import Result

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


def entry(result: Result) -> dict[str, Any]:
    """One result as it stands in the JSON."""
    target = result.output.target
    return {
        "path": str(result.path),
        "target": target.name,
        "layout": target.title,
        "stem": result.output.stem,
        "channel_labels": list(target.channel_labels),
        **asdict(result.figures),
        "clipped_samples": result.clipped_samples,
        "gain_db": round(result.gain_db, 2),
        "reduction_db": round(result.reduction_db, 2),
    }


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


def as_text(
    mix: Mix, entries: Sequence[Mapping[str, Any]], findings: Sequence[Mapping[str, str]], bits: str
) -> str:
    """The readable report of one render."""
    lines = [mix.title, "=" * len(mix.title), ""]
    lines += [f"{mix.sample_rate_hz} Hz, {bits.replace('f', ' float')} bit", ""]
    for row in entries:
        target = target_named(row["target"])
        heading = f"{target.title}, stem of {row['stem']}" if row["stem"] else target.title
        lines += [
            heading,
            "-" * len(heading),
            f"File                 {row['path'].rsplit('/', 1)[-1]}",
        ]
        lines.append(f"Duration             {row['duration_s']:.3f} s")
        lines.append(f"Channels             {row['channels']}: {', '.join(row['channel_labels'])}")
        for title, key, unit in _LINES:
            if row[key] is not None:
                lines.append(f"{title:<20} {row[key]:.2f} {unit}".rstrip())
        if row["clipped_samples"]:
            lines.append(f"Clipped              {row['clipped_samples']} samples exceed full scale")
        if row["near_full_scale_samples"]:
            lines.append(
                f"Near full scale      {row['near_full_scale_samples']} samples within 0.1 dB of it"
            )
        lines += [*left_out(mix, target), ""]
    lines += ["Findings", "--------"]
    lines += [
        f"{finding['severity'].capitalize()}: {finding['message']}" for finding in findings
    ] or ["None."]
    return "\n".join(lines) + "\n"
