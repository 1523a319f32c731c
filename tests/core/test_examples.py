"""The examples in the docs of public functions, run."""

import doctest
import importlib
import pkgutil
import unittest

from metaphon.core import measure, spatial


class Examples(unittest.TestCase):
    def test_every_example_gives_what_it_says(self) -> None:
        with_examples = 0
        for package in (spatial, measure):
            for found in pkgutil.iter_modules(package.__path__, f"{package.__name__}."):
                with self.subTest(module=found.name):
                    ran = doctest.testmod(importlib.import_module(found.name))
                    self.assertEqual(ran.failed, 0)
                    with_examples += ran.attempted > 0
        self.assertGreaterEqual(with_examples, 5)
