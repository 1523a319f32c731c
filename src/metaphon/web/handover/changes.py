"""What is new between two handovers: the edits, and what is heard of them."""

from collections.abc import Iterator
from pathlib import Path

import numpy as np
from django.core.files.storage import default_storage
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render

from metaphon.core.dsp.block import Block
from metaphon.core.errors import InputError
from metaphon.core.files.audio import ClipReader
from metaphon.web.jobs.models import Render, RenderFile
from metaphon.web.jobs.rendering import between
from metaphon.web.jobs.results import result_of
from metaphon.web.mixes.permissions import mix_for
from metaphon.web.shell.fragments import fragment_of

_COLUMNS = 300
_FLOOR_DB = -90.0  # of the chart
_MOST_EDITS = 200


@fragment_of("handover:show")
def show(request: HttpRequest, mix_id: int, render_id: int, since_id: int) -> HttpResponse:
    """The edits between two handovers, and the files that can be held against each other."""
    mix = mix_for(request, mix_id)
    new, old = (get_object_or_404(Render, pk=pk, mix=mix) for pk in (render_id, since_id))
    first, last = sorted((old.revision, new.revision))
    edits = mix.journal.filter(revision__gt=first, revision__lte=last).order_by("revision")
    before = {file.key: file for file in old.files.filter(kind="audio")}
    pairs = [
        (file, before[file.key])
        for file in new.files.filter(kind="audio")
        if file.is_heard and file.key in before
    ]
    shown = {
        "mix": mix,
        "row": new,
        "since": old,
        "edits": edits.defer("changes")[:_MOST_EDITS],
        "more": max(edits.count() - _MOST_EDITS, 0),
        "pairs": pairs,
    }
    return render(request, "handover/changes.html", shown)


@fragment_of("handover:show")
def null(request: HttpRequest, mix_id: int, file_id: int, other_id: int) -> HttpResponse:
    """What one file has that another has not, as level over time."""
    mix = mix_for(request, mix_id)
    new, old = result_of(mix, file_id), result_of(mix, other_id)
    levels = np.array(list(_levels_db(new, old)))
    columns = [part.max() for part in np.array_split(levels, min(_COLUMNS, len(levels)))]
    path = " ".join(
        f"{'L' if n else 'M'} {(n + 0.5) / len(columns) * 600.0:.1f} "
        f"{np.clip(level / _FLOOR_DB, 0.0, 1.0):.3f}"
        for n, level in enumerate(columns)
    )
    loudest = float(levels.max())
    shown = {"path": path, "loudest": None if loudest <= -120.0 else loudest, "file": new}
    return render(request, "handover/null.html", shown)


def _levels_db(new: RenderFile, old: RenderFile) -> Iterator[float]:
    """The level of the difference ten times a second, all channels together."""
    if new.figures.get("channels") != old.figures.get("channels"):
        raise InputError("These files have different numbers of channels and have no difference.")
    late_s, gain_db = between(new, old)
    rate_hz, other_hz = (file.figures.get("sample_rate_hz") for file in (new, old))
    if rate_hz != other_hz:
        raise InputError("These files are at two sample rates and cannot be held together.")
    readers = [ClipReader(Path(default_storage.path(str(f.file.name)))) for f in (new, old)]
    step = round((rate_hz or 48000) / 10)
    late, gain = round(late_s * (rate_hz or 48000)), 10.0 ** (gain_db / 20.0)
    first = min(0, -late)
    last = max(readers[0].frames, readers[1].frames - late)
    for at in range(first, last, step * 64):
        count = min(step * 64, last - at)
        one, other = readers[0].read(at, count), readers[1].read(at + late, count)
        yield from _in_steps(one - other * np.float32(gain), step)
    for reader in readers:
        reader.close()


def _in_steps(block: Block, step: int) -> Iterator[float]:
    for at in range(0, block.shape[1], step):
        power = float(np.mean(np.square(block[:, at : at + step], dtype=float)))
        yield 10.0 * np.log10(power + 1e-12)
