"""Work whose job is gone while its row says that it runs."""

from datetime import timedelta
from typing import Any

from django.utils.timezone import now

from metaphon.web.intake.models import Arrival
from metaphon.web.jobs.models import Render, RenderPart, Work
from metaphon.web.jobs.orphans import WORKS, take_over_orphans
from metaphon.web.jobs.tasks import render_part
from tests.web.base import WebTest


class Orphans(WebTest):
    def row(self, model: type[Work], status: str) -> Work:
        more: dict[str, Any] = {"revision": 0} if model is Render else {}
        made = model._default_manager.create(
            mix=self.mix, user=self.user, status=status, options={}, **more
        )
        old = now() - timedelta(minutes=1)
        model._default_manager.filter(pk=made.pk).update(created_at=old)
        return made

    def test_every_kind_of_work_is_begun_again_once(self) -> None:
        self.assertEqual(
            set(WORKS),
            {m for m in Work.__subclasses__() if not m._meta.abstract}
            | {m for base in Work.__subclasses__() for m in base.__subclasses__()},
        )
        for model, (task, name) in WORKS.items():
            for status in ("waiting", "running"):
                row = self.row(model, status)
                self.assertEqual(take_over_orphans(), 1, model)
                self.assertEqual(take_over_orphans(), 0, model)  # it is queued now
                self.assertEqual(self.taken_from_queue(task.name), [{name: row.pk}])
                row.delete()

    def test_what_was_to_be_stopped_is_stopped_and_can_be_removed(self) -> None:
        row = self.row(Render, "cancelling")
        self.assertEqual(take_over_orphans(), 1)
        row.refresh_from_db()
        self.assertEqual(row.status, Work.Status.CANCELLED)
        self.assertEqual(self.post("handover:remove", row.pk).status_code, 200)

    def test_what_a_worker_holds_or_was_just_asked_for_is_left_alone(self) -> None:
        fresh = self.row(Render, "waiting")
        Render.objects.filter(pk=fresh.pk).update(created_at=now())
        self.assertEqual(take_over_orphans(), 0)
        fresh.delete()
        row = self.row(Render, "running")
        part = RenderPart.objects.create(render=row, stage=0, part={})
        render_part.defer(part_id=part.pk)
        self.assertEqual(take_over_orphans(), 0)
        self.taken_from_queue("render_part")
        self.assertEqual(take_over_orphans(), 1)

    def test_an_arrival_is_checked_again_or_said_to_be_lost(self) -> None:
        arrival = self.announce("a.wav", 9)
        row = Arrival.objects.get()
        old = now() - timedelta(minutes=1)
        Arrival.objects.update(status=Arrival.Status.CHECKING, created_at=old)
        self.assertEqual(take_over_orphans(), 1)
        row.refresh_from_db()
        self.assertEqual(row.status, Arrival.Status.FAILED)
        self.assertIn("again", row.message)
        self.assertEqual(arrival.status_code, 201)
