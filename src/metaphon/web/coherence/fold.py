"""What folding down loses, drawn: by band, over time, and the tracks that make it so."""

from typing import Any

from django.http import QueryDict

from metaphon.core.checks.fold_down_report import RANKED_S, STEP_S
from metaphon.core.document.mix import Mix as Document
from metaphon.core.measure.thirds import THIRDS_HZ
from metaphon.core.spatial.layouts import layout_named
from metaphon.web.coherence.axis import WIDE, place_of
from metaphon.web.jobs.models import FoldDownReport
from metaphon.web.jobs.surveying import key_of
from metaphon.web.mixes.models import Mix

_HIGH = 120.0  # of each drawing
_REACHES_DB = (6, 12, 24)  # down from 0; half as far up, for what is gained
_COLUMNS = 400  # of time, at most


def shown(mix: Mix, document: Document, given: QueryDict) -> dict[str, Any]:
    """The report of the mix, or of a strip of it, as far as there is one."""
    strips = [strip for strip in document.strips if not strip.resting]
    wanted = given.get("strip", "")
    strip = next((one for one in strips if one.id == wanted), None)
    names = {one.id: one.name for one in document.strips}
    rows = mix.fold_down_reports.filter(options={"strip": strip.id if strip else ""})
    row, done = rows.first(), rows.filter(status=FoldDownReport.Status.DONE).first()
    return {
        "strips": strips,
        "strip": strip,
        "heard": any(track.clips for track in document.tracks if not track.resting),
        "row": row,
        "old": done is not None and done.key != key_of(document),
        "ways": [_way(fold, names) for fold in done.figures] if done else [],
        "zero_y": _HIGH / 3.0,
        "asked": {"strip": strip.id if strip else ""},
    }


def _way(fold: dict[str, Any], names: dict[str, str]) -> dict[str, Any]:
    worst_s = fold["worst_s"]
    length_s = max(len(fold["steps_db"]) * STEP_S, STEP_S)
    loss = fold["loss_db"]
    found = [one for one in (*fold["bands_db"], *fold["steps_db"]) if one is not None]
    most = max((max(lost, -2.0 * lost) for lost in found), default=0.0)
    reach = next((db for db in _REACHES_DB if db >= most), _REACHES_DB[-1])
    return {
        **fold,
        "title": f"{_title(fold['source'])} to {_title(fold['target']).lower()}",
        "level_db": None if loss is None else -loss,
        "bars": _bars(fold["bands_db"], reach),
        "line": _over_time(fold["steps_db"], reach),
        "reach_db": -reach,
        "length_s": length_s,
        "worst_x": None if worst_s is None else round(worst_s / length_s * WIDE, 1),
        "worst_db": None if worst_s is None else -fold["steps_db"][round(worst_s / STEP_S)],
        "ranked_to_s": min(fold["ranked_from_s"] + RANKED_S, length_s),
        "causes": [
            {**one, "name": names[one["track"]]} for one in fold["causes"] if one["track"] in names
        ],
    }


def _title(layout: str) -> str:
    return layout_named(layout).everyday.replace("_", " ").capitalize()


def _y(lost_db: float, reach: int) -> float:
    """Where a loss lies below 0, or a gain above."""
    return round(min(max(lost_db / reach, -0.5), 1.0) * _HIGH / 1.5 + _HIGH / 3.0, 1)


def _bars(bands_db: list[float | None], reach: int) -> list[dict[str, Any]]:
    """A bar for each band, down from 0 for what is lost."""
    made = []
    for hertz, lost in zip(THIRDS_HZ, bands_db, strict=True):
        if lost is None:
            continue
        left, right = (place_of(float(hertz) * 10.0 ** (by / 20.0)) for by in (-0.85, 0.85))
        y = sorted((_y(0.0, reach), _y(lost, reach)))
        made.append(
            {"x": left, "width": round(right - left, 1), "y": y[0], "height": max(y[1] - y[0], 1)}
            | {"hertz": float(hertz), "level_db": -lost, "lost": lost > 0.0}
        )
    return made


def _over_time(steps_db: list[float | None], reach: int) -> str:
    """The level over time; the lowest of each column where there are more steps than columns."""
    each = -(-len(steps_db) // _COLUMNS) or 1
    path, pen = [], "M"
    for first in range(0, len(steps_db), each):
        sounding = [loss for loss in steps_db[first : first + each] if loss is not None]
        if not sounding:
            pen = "M"
            continue
        x = (first + each / 2.0) / len(steps_db) * WIDE
        path.append(f"{pen}{x:.1f} {_y(max(sounding), reach)}")
        pen = "L"
    return "".join(path)
