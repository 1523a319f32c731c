"""The test runner.

Django's own, on both cores, with a scratch storage, one plain closing line and --long for the slow
tests. Those in the browser run one after another in one process, on a server that they share.
"""

import multiprocessing
import os
import sys
import tempfile
import unittest
import warnings
from argparse import ArgumentParser
from functools import wraps
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import connections
from django.test.runner import DiscoverRunner, ParallelTestSuite, _init_worker, _run_subsuite
from django.test.utils import override_settings

from tests.browser.server import stop_servers
from tests.demo import shared_demo

_IN_BROWSER = "tests.browser."
_POLITE = 10  # as workers are


def long_test(function: Any) -> Any:
    """Mark a test that runs only with bin/test --long."""

    @wraps(function)
    def run(self: unittest.TestCase) -> None:
        if os.environ.get("METAPHON_LONG") != "1":
            self.skipTest("runs with --long")
        function(self)

    return run


def _begin(*args: Any) -> None:
    """Start a process of tests, with a database and a storage of its own."""
    _init_worker(*args)
    # Django's client joins what is streamed; nothing waits for it there
    warnings.filterwarnings("ignore", message="StreamingHttpResponse must consume")
    process = multiprocessing.current_process()
    process._config["daemon"] = False  # the engine has processes of its own # type: ignore
    storage = Path(settings.MEDIA_ROOT) / process.name
    storage.mkdir()
    override_settings(MEDIA_ROOT=storage, FILE_UPLOAD_TEMP_DIR=storage).enable()


def _run(args: Any) -> Any:
    """Run a part of the tests; those in the browser wait most, so all others stand back."""
    _, _, suite, *_ = args
    if not isinstance(suite, _InBrowser):
        os.nice(_POLITE - os.nice(0))
    return _run_subsuite(args)


class _InBrowser(unittest.TestSuite):
    """All tests in the browser, on servers that end with the last of them."""

    def run(self, result: unittest.TestResult, debug: bool = False) -> unittest.TestResult:
        try:
            return super().run(result, debug)
        finally:
            stop_servers()


class _OnBothCores(ParallelTestSuite):
    init_worker = _begin
    run_subsuite = _run

    def __init__(self, subsuites: list[unittest.TestSuite], *args: Any, **options: Any) -> None:
        def in_browser(suite: unittest.TestSuite) -> bool:
            return any(test.id().startswith(_IN_BROWSER) for test in suite)

        together = _InBrowser(t for suite in subsuites if in_browser(suite) for t in suite)
        apart = [suite for suite in subsuites if not in_browser(suite)]
        super().__init__([together, *apart], *args, **options)

    def run(self, result: unittest.TestResult) -> unittest.TestResult:
        for connection in connections.all():
            connection.close()
            connection.close_pool()  # its threads do not live on in another process
        return super().run(result)


class Runner(DiscoverRunner):
    parallel_test_suite = _OnBothCores

    def __init__(self, *args: Any, long: bool = False, parallel: int = 0, **options: Any) -> None:
        super().__init__(*args, parallel=parallel or os.cpu_count() or 1, **options)
        self._closing = "0 passed, 1 failed"
        os.environ["METAPHON_LONG"] = "1" if long else "0"
        # Playwright's loop runs in the tests' thread
        os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"] = "true"

    @classmethod
    def add_arguments(cls, parser: ArgumentParser) -> None:
        super().add_arguments(parser)
        parser.add_argument("--long", action="store_true", help="run the slow tests too")

    def build_suite(self, test_labels: Any = None, **options: Any) -> Any:
        return super().build_suite(test_labels or ["tests"], **options)

    def run_suite(self, suite: Any, **options: Any) -> unittest.TestResult:
        with tempfile.TemporaryDirectory() as storage:
            scratch = override_settings(
                MEDIA_ROOT=storage,
                FILE_UPLOAD_TEMP_DIR=storage,
                DEMO=True,
                PASSWORD_HASHERS=["django.contrib.auth.hashers.MD5PasswordHasher"],
            )
            with scratch:
                try:
                    return super().run_suite(suite, **options)
                finally:
                    stop_servers()

    def suite_result(self, suite: Any, result: unittest.TestResult, **options: Any) -> int:
        failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
        skipped = len(result.skipped)
        self._closing = f"{result.testsRun - failed - skipped} passed, {failed} failed"
        self._closing += f", {skipped} skipped" if skipped else ""
        return super().suite_result(suite, result, **options)

    def run_tests(self, *args: Any, **options: Any) -> int:
        try:
            with shared_demo():
                return super().run_tests(*args, **options)
        finally:
            sys.stderr.flush()
            print(self._closing, flush=True)
