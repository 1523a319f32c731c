"""A render divided over workers, killed on the way, and not wanted any more."""

import hashlib
from pathlib import Path
from typing import Any
from unittest.mock import patch

from django.conf import settings

from metaphon.core.engine import lanes
from metaphon.web.jobs import parts as parts_module
from metaphon.web.jobs.models import Render, RenderPart
from metaphon.web.jobs.parts import Parts
from metaphon.web.jobs.tasks import render_mix, render_part
from tests.sounds import noise
from tests.web.base import WebTest


class Killed(BaseException):
    """What nobody catches."""


class InParts(WebTest):
    def setUp(self) -> None:
        super().setUp()
        for number, name in enumerate(("a.wav", "b.wav")):
            self.bring_in(name, noise(1, 1.0, number))
        for name in ("0+5+0", "binaural"):
            self.edit("handover", kind="add_target", name=name)

    def asked_for(self) -> Render:
        self.post("handover:start", stems=["tracks 0+2+0"], level="gain", loudness_lufs="-30")
        row = self.mix.renders.first()
        assert row is not None
        return row

    def digests(self, row: Render) -> dict[str, str]:
        row.refresh_from_db()
        self.assertEqual(row.status, "done", row.message)
        self.assertFalse(row.parts.exists())
        self.assertFalse(self.folder(row).exists())
        return {
            one.name: hashlib.sha256(one.file.open("rb").read()).hexdigest()
            for one in row.files.filter(kind="audio")
        }

    def folder(self, row: Render) -> Path:
        return Path(settings.MEDIA_ROOT) / "scratch" / f"render_{row.pk}"

    def queued(self) -> list[int]:
        """The parts that wait in the queue, taken out of it."""
        return [waiting["part_id"] for waiting in self.taken_from_queue("render_part")]

    def divided(self, workers: int) -> tuple[Render, list[int]]:
        """How many parts each stage had; each done by a worker that knows nothing of others."""
        row = self.asked_for()
        with patch("metaphon.web.jobs.rendering.workers_alive", return_value=workers):
            render_mix(render_id=row.pk)
        row.refresh_from_db()
        self.assertEqual(row.status, "running")
        stages = []
        while waiting := self.queued():
            stages.append(len(waiting))
            for part in reversed(waiting):
                render_part(part_id=part)
        return row, stages

    def test_the_same_bytes_by_however_many_workers(self) -> None:
        alone = self.asked_for()
        render_mix(render_id=alone.pk)
        wanted = self.digests(alone)
        self.assertEqual(len(wanted), 5)
        for workers, stages in ((2, [1, 2]), (9, [3, 2])):
            row, found = self.divided(workers)
            self.assertEqual(found, stages)
            self.assertEqual(self.digests(row), wanted)
        self.assertEqual(row.findings, alone.findings)
        first, second = (one.files.get(target="0+5+0", stem="") for one in (alone, row))
        self.assertEqual((second.figures, second.history), (first.figures, first.history))

    def test_a_long_one_by_span(self) -> None:
        with patch.object(lanes, "PIECE_S", 0.3):
            alone = self.asked_for()
            render_mix(render_id=alone.pk)
            row, stages = self.divided(2)
            self.assertEqual(stages, [9, 3, 2])
            self.assertEqual(self.digests(row), self.digests(alone))

    def test_a_worker_that_was_killed_has_lost_one_part(self) -> None:
        wanted = self.asked_for()
        render_mix(render_id=wanted.pk)
        row = self.asked_for()
        done: list[Any] = []
        do = Parts.do

        def killed(self: Parts, part: RenderPart) -> None:
            if len(done) == 2:
                raise Killed
            done.append(part.pk)
            do(self, part)

        with patch.object(Parts, "do", killed), self.assertRaises(Killed):
            render_mix(render_id=row.pk)
        row.refresh_from_db()
        self.assertEqual((row.status, row.files.count()), ("running", 0))
        again: list[Any] = []

        def counted(self: Parts, part: RenderPart) -> None:
            again.append(part.pk)
            do(self, part)

        with patch.object(Parts, "do", counted):
            render_mix(render_id=row.pk)
        self.assertEqual((len(again), set(again) & set(done)), (1, set()))
        self.assertEqual(self.digests(row), self.digests(wanted))

    def test_two_that_take_each_other_for_dead_do_no_harm(self) -> None:
        row = self.asked_for()
        with patch("metaphon.web.jobs.rendering.workers_alive", return_value=2):
            render_mix(render_id=row.pk)
        [first] = self.queued()
        Parts(Render.objects.get(pk=row.pk)).do(RenderPart.objects.get(pk=first))
        render_part(part_id=first)
        render_part(part_id=first)
        waiting = self.queued()
        self.assertEqual(len(waiting), 2)  # begun once
        for part in [*waiting, *waiting]:
            render_part(part_id=part)
        self.digests(row)

    def test_one_that_is_not_wanted_any_more_leaves_nothing(self) -> None:
        row = self.asked_for()
        with patch("metaphon.web.jobs.rendering.workers_alive", return_value=2):
            render_mix(render_id=row.pk)
        [first] = self.queued()
        render_part(part_id=first)
        one, other = self.queued()
        self.post("handover:cancel", row.pk)
        with patch.object(parts_module, "TELL_EVERY_S", 0.0):
            render_part(part_id=one)
            render_part(part_id=other)
        row.refresh_from_db()
        self.assertEqual((row.status, row.parts.count(), self.queued()), ("cancelled", 0, []))
        self.assertFalse(self.folder(row).exists())

    def test_how_far_all_of_it_is(self) -> None:
        row = self.asked_for()
        with patch("metaphon.web.jobs.rendering.workers_alive", return_value=2):
            render_mix(render_id=row.pk)
        [first] = self.queued()
        with patch.object(parts_module, "TELL_EVERY_S", 0.0):
            render_part(part_id=first)
            render_part(part_id=self.queued()[0])
        row.refresh_from_db()
        self.assertEqual((row.files_ready, row.files_wanted), (3, 5))
        self.assertGreater(row.progress, 0.5)
        self.assertLess(row.progress, 1.0)
