"""The test runner.

Django's own, with a scratch storage, one plain closing line and --long for the slow tests.
"""

import os
import sys
import tempfile
import unittest
from argparse import ArgumentParser
from functools import wraps
from typing import Any

from django.test.runner import DiscoverRunner
from django.test.utils import override_settings


def long_test(function: Any) -> Any:
    """Mark a test that runs only with bin/test --long."""

    @wraps(function)
    def run(self: unittest.TestCase) -> None:
        if os.environ.get("METAPHON_LONG") != "1":
            self.skipTest("runs with --long")
        function(self)

    return run


class Runner(DiscoverRunner):
    def __init__(self, *args: Any, long: bool = False, **options: Any) -> None:
        super().__init__(*args, **options)
        self._closing = "0 passed, 1 failed"
        os.environ["METAPHON_LONG"] = "1" if long else "0"
        os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"] = (
            "true"  # Playwright's loop runs in the tests' thread
        )

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
                return super().run_suite(suite, **options)

    def suite_result(self, suite: Any, result: unittest.TestResult, **options: Any) -> int:
        failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
        skipped = len(result.skipped)
        self._closing = f"{result.testsRun - failed - skipped} passed, {failed} failed"
        self._closing += f", {skipped} skipped" if skipped else ""
        return super().suite_result(suite, result, **options)

    def run_tests(self, *args: Any, **options: Any) -> int:
        try:
            return super().run_tests(*args, **options)
        finally:
            sys.stderr.flush()
            print(self._closing, flush=True)
