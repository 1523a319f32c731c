"""What is told of the parts that serve: which of them works, and figures for a scraper."""

from typing import Any
from unittest.mock import patch

from django.db import connection
from django.test import override_settings
from prometheus_client.parser import text_string_to_metric_families

from metaphon.web.jobs import health
from tests.web.base import WebTest

_TOKEN = "a token of the scraper"


class Health(WebTest):
    def parts(self) -> tuple[int, dict[str, Any]]:
        answer = self.client.get("/health")
        return answer.status_code, answer.json()

    def test_each_part_is_told_and_one_that_is_at_fault_is_enough(self) -> None:
        def silent() -> object:
            raise ConnectionRefusedError

        with patch.dict(health._LOOKS, worker=lambda: 8, listening=lambda: {"listeners": 0}):
            every = dict.fromkeys(("database", "worker", "storage", "listening"), True)
            self.assertEqual(self.parts(), (200, {"status": "ready", **every}))
            with override_settings(RESERVED_BYTES=1 << 60):  # more than any disk has
                self.assertEqual(
                    self.parts(), (503, {"status": "not ready", **every, "storage": False})
                )
            with patch.dict(health._LOOKS, listening=silent):
                self.assertEqual(
                    self.parts(), (503, {"status": "not ready", **every, "listening": False})
                )

    def figures(self, token: str) -> Any:
        return self.client.get("/metrics", headers={"Authorization": f"Bearer {token}"})

    def test_figures_are_for_who_has_the_token(self) -> None:
        self.assertEqual(self.figures("").status_code, 404)  # there is none
        with override_settings(METRICS_TOKEN=_TOKEN):
            for token in ("", "another", f"{_TOKEN} "[:-2]):
                self.assertEqual(self.figures(token).status_code, 404)
            with connection.cursor() as cursor:
                cursor.execute(
                    "insert into procrastinate_jobs (queue_name, task_name) values ('prints', 'a')"
                )
            told = self.figures(_TOKEN).content.decode()
        found = {family.name: family for family in text_string_to_metric_families(told)}
        [prints] = [s for s in found["metaphon_jobs"].samples if s.labels["queue"] == "prints"]
        self.assertEqual((prints.labels["status"], prints.value), ("todo", 1.0))
        self.assertGreater(found["metaphon_storage_free_bytes"].samples[0].value, 0.0)
        self.assertEqual(found["metaphon_workers"].samples[0].value, 0.0)
