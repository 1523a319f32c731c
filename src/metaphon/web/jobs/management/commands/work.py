"""The worker: takes renders as they come, and takes over those whose worker has died."""

import asyncio
import logging
import os
import signal
from argparse import ArgumentParser
from contextlib import suppress
from pathlib import Path
from typing import Any

from django.core.management.base import BaseCommand
from django.db import Error, close_old_connections, connection
from procrastinate import App, exceptions
from procrastinate.contrib.django import app
from procrastinate.jobs import Status

from metaphon.web.jobs.orphans import take_over_orphans
from metaphon.web.jobs.workers import AT_ONCE, QUEUES

log = logging.getLogger(__name__)
_HEARTBEAT_S = 3.0
_DEAD_AFTER_S = 12.0
_POLITE = 10


class Command(BaseCommand):
    help = "Run one worker until it is stopped."

    def add_arguments(self, parser: ArgumentParser) -> None:
        parser.add_argument(
            "--until-idle", action="store_true", help="stop when nothing waits (for tests)"
        )

    def handle(self, *args: Any, **options: Any) -> None:
        os.nice(_POLITE)  # live listening comes first on a machine of few cores
        with suppress(
            OSError
        ):  # where Linux weighs sessions and not processes, the session as well
            Path("/proc/self/autogroup").write_text(str(_POLITE))
        if self.stdout.isatty():
            self.stdout.write("Worker ready for renders.")
        connector = app.connector.get_worker_connector()  # type: ignore[attr-defined]
        asyncio.run(_work(app.with_connector(connector), wait=not options["until_idle"]))


async def _work(worker_app: App, wait: bool) -> None:
    async with worker_app.open_async():
        rescue = asyncio.create_task(_rescue(worker_app))
        serving = [asyncio.create_task(_serve(worker_app, queue, wait)) for queue in QUEUES]

        def stop() -> None:
            for one in serving:
                if not one.cancelling():  # a second time would cut short its orderly end
                    one.cancel()

        loop = asyncio.get_running_loop()
        for name in (signal.SIGTERM, signal.SIGINT):
            loop.add_signal_handler(name, stop)
        try:
            # one that has lost the database ends of itself; the others end with it, so that all
            # queues are served again by the next process, and none is left unserved by this one
            first = asyncio.FIRST_COMPLETED if wait else asyncio.ALL_COMPLETED
            await asyncio.wait(serving, return_when=first)
            stop()
            for ended in await asyncio.gather(*serving, return_exceptions=True):
                if isinstance(ended, Exception):
                    raise ended
        finally:
            rescue.cancel()


async def _serve(worker_app: App, queue: str, wait: bool) -> None:
    await worker_app.run_worker_async(
        queues=[queue],
        concurrency=AT_ONCE.get(queue, 1),
        wait=wait,
        fetch_job_polling_interval=1.0,
        update_heartbeat_interval=_HEARTBEAT_S,
        stalled_worker_timeout=_DEAD_AFTER_S,
        shutdown_graceful_timeout=1.0,
        delete_jobs="successful",
        install_signal_handlers=False,
    )


def _look_for_orphans() -> None:
    close_old_connections()
    try:
        take_over_orphans()
    finally:
        connection.close()


async def _rescue(worker_app: App) -> None:
    """Put the jobs of dead workers back in the queue, for as long as this one lives."""
    jobs = worker_app.job_manager
    while True:
        try:
            for job in await jobs.get_stalled_jobs(seconds_since_heartbeat=_DEAD_AFTER_S):
                try:
                    await jobs.retry_job(job)
                except exceptions.UniqueViolation:  # the same waits already, asked for since
                    await jobs.finish_job(job, Status.FAILED, delete_job=True)
            await asyncio.to_thread(_look_for_orphans)
        except (exceptions.ConnectorException, Error):
            log.exception("jobs of dead workers could not be looked for")
        await asyncio.sleep(_HEARTBEAT_S)
