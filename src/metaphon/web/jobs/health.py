"""Whether everything that serves is at work, and figures of it for a scraper."""

import json
import secrets
import shutil
import tempfile
import urllib.request
from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

from django.conf import settings
from django.contrib.auth.decorators import login_not_required
from django.core.files.storage import default_storage
from django.db import DatabaseError, connection
from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from prometheus_client import CONTENT_TYPE_LATEST, REGISTRY, generate_latest
from prometheus_client.core import GaugeMetricFamily
from prometheus_client.registry import Collector

from metaphon.web.jobs.workers import served_queues

_PATIENCE_S = 2.0
_WAITING = """
    select queue_name, status::text, count(*) from procrastinate_jobs
    where status in ('todo', 'doing', 'failed') group by 1, 2
"""


@login_not_required
def health(request: HttpRequest) -> HttpResponse:
    """Each part with whether it is at work; 503 where one is not."""
    parts = {name: _works(look) for name, look in _LOOKS.items()}
    ready = all(parts.values())
    told = {"status": "ready" if ready else "not ready", **parts}
    answer = JsonResponse(told, status=200 if ready else 503)
    answer._has_been_logged = True  # type: ignore[attr-defined]  # the answer says it
    return answer


@login_not_required
def metrics(request: HttpRequest) -> HttpResponse:
    """Figures in the text format of Prometheus, for who sends METAPHON_METRICS_TOKEN."""
    token = request.headers.get("Authorization", "").removeprefix("Bearer ")
    known = settings.METRICS_TOKEN.encode()
    if not known or not secrets.compare_digest(token.encode(), known):
        raise Http404
    return HttpResponse(generate_latest(REGISTRY), content_type=CONTENT_TYPE_LATEST)


def _works(look: Callable[[], object]) -> bool:
    try:
        return bool(look())
    except (OSError, DatabaseError):
        return False


def _rows(query: str, *arguments: Any) -> list[Any]:
    with connection.cursor() as cursor:
        cursor.execute(query, arguments)
        return list(cursor.fetchall())


def _database() -> bool:
    return bool(_rows("select 1"))


def _storage() -> bool:
    root = Path(settings.MEDIA_ROOT)
    default_storage.exists("anything")  # raises where the bucket does not answer
    with tempfile.TemporaryFile(dir=root) as file:
        file.write(b"here")
    return bool(shutil.disk_usage(root).free > settings.RESERVED_BYTES)


def _listening() -> dict[str, Any]:
    """How many listen on this host, as its servers for listening say."""
    listeners = 0
    for port in settings.LISTEN_PORTS:
        address = f"http://127.0.0.1:{port}/health"
        with urllib.request.urlopen(address, timeout=_PATIENCE_S) as answer:
            listeners += json.loads(answer.read())["listeners"]
    return {"listeners": listeners}


_LOOKS: dict[str, Callable[[], object]] = {
    "database": _database,
    "worker": served_queues,
    "storage": _storage,
    "listening": _listening,
}


class _Figures(Collector):
    def collect(self) -> Iterator[GaugeMetricFamily]:
        jobs = GaugeMetricFamily("metaphon_jobs", "Jobs", labels=["queue", "status"])
        for queue, status, count in _rows(_WAITING):
            jobs.add_metric([queue, status], count)
        yield jobs
        free = shutil.disk_usage(settings.MEDIA_ROOT).free
        for name, help, value in (
            ("workers", "Queues that are served by a worker that is alive", served_queues()),
            ("storage_free_bytes", "Room on the disk of the storage", free),
        ):
            yield GaugeMetricFamily(f"metaphon_{name}", help, value=value)
        with suppress(OSError):  # where it does not answer, its figure is left out
            listeners = _listening()["listeners"]
            yield GaugeMetricFamily("metaphon_listeners", "Who plays now", value=listeners)

    def describe(self) -> list[GaugeMetricFamily]:
        return []  # so that nothing is asked while the program is being loaded


REGISTRY.register(_Figures())
