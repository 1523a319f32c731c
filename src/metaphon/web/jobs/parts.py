"""The parts of a render: who does which, how far all of them are, and what came of them.

A part is done in a folder of its own and laid down where all workers find it when it is whole, so
that two who take each other for dead do no harm.
"""

import shutil
import tempfile
import time
from collections.abc import Callable, Sequence
from dataclasses import asdict
from pathlib import Path

from django.conf import settings
from django.db import transaction
from django.db.models import Avg
from django.utils.timezone import localdate, now
from pydantic import TypeAdapter

from metaphon.core.document.handover import Handover, asked
from metaphon.core.document.mix import Mix
from metaphon.core.engine.finishing import Outcome
from metaphon.core.engine.levels import Level, StripMeters
from metaphon.core.engine.making import Making, Part, Result, Run
from metaphon.core.engine.naming import Names
from metaphon.core.engine.offline import runs_of
from metaphon.core.presence import present
from metaphon.core.spatial.head import SHIPPED
from metaphon.web.jobs.models import Render, RenderPart
from metaphon.web.jobs.progress import TELL_EVERY_S, Interrupted
from metaphon.web.mixes.snapshots import document_at
from metaphon.web.storage import scratch, stored

Begin = Callable[[RenderPart], object]
_OUTCOMES = TypeAdapter(list[Outcome])


class Parts:
    """A render as its parts."""

    def __init__(self, render: Render) -> None:
        self._render = render
        self.asked: Handover = asked(render.options)
        self.mix: Mix = document_at(render.mix, render.revision)
        head = Path(settings.MEDIA_ROOT) / self.asked.head if self.asked.head else SHIPPED
        self.runs: Sequence[Run] = runs_of(self.mix, self.asked, head)

    def divide(self, workers: int) -> None:
        """Write down what has to be done by so many workers."""
        stages = self._making(self.folder).stages(workers)
        rows = [
            RenderPart(render=self._render, stage=stage, part=part._asdict())
            for stage, parts in enumerate(stages)
            for part in parts
        ]
        RenderPart.objects.bulk_create(rows)

    def open_ones(self) -> list[RenderPart]:
        """What is to be done of the first stage that is not over."""
        rows = list(self._render.parts.filter(is_over=False))
        return [row for row in rows if row.stage == rows[0].stage]

    def do(self, row: RenderPart) -> None:
        """Do one part. Raises Interrupted, or InputError in one sentence."""
        self.folder.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryDirectory(dir=self.folder) as name:
            folder = Path(name)
            making = self._making(folder)
            part = Part(**{**row.part, "outputs": tuple(row.part["outputs"])})
            meters = StripMeters(self.runs[0].plan) if part.shows_strips else None
            made = making.carry_out(
                part,
                making.gains_db(self._outcomes(part__run=0)),
                _Teller(row, making.length_s),
                **({"on_strips": meters.add} if meters else {}),
            )
            for path in folder.iterdir():
                path.replace(self.folder / path.name)
                stored.share(self._shared_as(path.name))
        levels = {one: asdict(level) for one, level in meters.finish().items()} if meters else None
        RenderPart.objects.filter(pk=row.pk).update(
            done=1.0, outcomes=_OUTCOMES.dump_python(made, mode="json"), levels=levels
        )

    def close(self, row: RenderPart, begin: Begin) -> bool:
        """A part is over: begin what may be begun after it; whether everything is over.

        Raises Interrupted where the render is not wanted any more.
        """
        with transaction.atomic():
            held = Render.objects.select_for_update().filter(pk=self._render.pk).first()
            if held is None or held.status != Render.Status.RUNNING:
                raise Interrupted
            closed = RenderPart.objects.filter(pk=row.pk, is_over=False).update(is_over=True)
            left = self.open_ones()
            for one in left if closed and left and left[0].stage > row.stage else ():
                begin(one)  # with the closing, or not at all
            return not left

    def results(self) -> list[Result]:
        """All files, with what was measured of them."""
        found = self._making(self.folder).results(self._outcomes())
        for one in found:
            present(one.path)
        return found

    def levels(self) -> dict[str, Level]:
        """The level of every strip of the mix."""
        rows = self._render.parts.filter(levels__isnull=False)
        told = rows[0].levels if rows else {}
        return {one: Level(**level) for one, level in (told or {}).items()}

    @property
    def speed_x_realtime(self) -> float:
        """How fast all of it was."""
        return _speed(self._render.parts.all()[0], self._making(self.folder).length_s, 1.0)

    @property
    def folder(self) -> Path:
        """Where the parts are laid down that are whole."""
        return scratch() / f"render_{self._render.pk}"

    def _shared_as(self, name: str) -> str:
        """What a file of the parts is called where all machines find it."""
        return (self.folder / name).relative_to(settings.MEDIA_ROOT).as_posix()

    def forget(self) -> None:
        """Give back all that was kept of the parts."""
        shutil.rmtree(self.folder, ignore_errors=True)
        stored.unshare(self._shared_as(""))
        self._render.parts.all().delete()

    def _outcomes(self, **only: int) -> list[Outcome]:
        """What came of the files so far, in their order; of all parts, or of those asked for."""
        found: dict[tuple[int, int], Outcome] = {}
        for row in self._render.parts.filter(**only).exclude(outcomes=[]):
            made = _OUTCOMES.validate_python(row.outcomes)
            keys = [(row.part["run"], number) for number in row.part["outputs"]]
            found |= dict(zip(keys, made, strict=True))
        return [found[key] for key in sorted(found)]

    def _making(self, folder: Path) -> Making:
        render = self._render
        names = Names(self.mix.title, render.revision, localdate(render.created_at).isoformat())
        span = self.asked.start_s, self.asked.end_s
        return Making(self.runs, folder, self.asked, names, span, pieces=self.folder)


def _speed(first: RenderPart, length_s: float, done: float) -> float:
    return done * length_s / max((now() - first.created_at).total_seconds(), 1e-3)


class _Teller:
    """Writes down now and then how far a part is and so the whole, and hears whether to stop."""

    def __init__(self, row: RenderPart, length_s: float) -> None:
        self._row, self._length_s = row, length_s
        self._all = RenderPart.objects.filter(render=row.render_id)
        self._first = self._all[0]
        self._told = 0.0

    def __call__(self, done: float) -> None:
        if time.monotonic() - self._told < TELL_EVERY_S:
            return
        self._told = time.monotonic()
        RenderPart.objects.filter(pk=self._row.pk, is_over=False).update(done=min(done, 1.0))
        whole = self._all.aggregate(whole=Avg("done"))["whole"] or 0.0
        files = [(row.is_over, Part(**row.part).files) for row in self._all.only("is_over", "part")]
        told = {
            "progress": min(whole, 1.0),
            "speed_x_realtime": _speed(self._first, self._length_s, whole),
            "files_ready": sum(count for is_over, count in files if is_over),
            "files_wanted": sum(count for _, count in files),
        }
        running = Render.objects.filter(pk=self._row.render_id, status=Render.Status.RUNNING)
        if not running.update(**told):
            raise Interrupted
