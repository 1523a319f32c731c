"""What is done in a process of its own: that process knows nothing of pages and database."""

import ast
import importlib
import unittest
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import metaphon.web

_SOURCES = Path(metaphon.web.__file__).parent


def _works() -> Iterator[tuple[str, Any]]:
    """Each function that a module of the web gives away, and where."""
    for path in sorted(_SOURCES.rglob("*.py")):
        whole = ast.parse(path.read_text())
        calls = [
            node
            for node in ast.walk(whole)
            if isinstance(node, ast.Call)
            and isinstance(node.func, ast.Name)
            and node.func.id in ("read_apart", "work_apart")
        ]
        if not calls:
            continue
        parts = path.relative_to(_SOURCES).with_suffix("").parts
        names = {  # what a function imports for itself, and what the module has
            one.name: getattr(importlib.import_module(node.module or ""), one.name)
            for node in ast.walk(whole)
            if isinstance(node, ast.ImportFrom)
            for one in node.names
        } | vars(importlib.import_module(".".join(("metaphon", "web", *parts))))
        for call in calls:
            work = call.args[0]
            name = work.value if isinstance(work, ast.Subscript) else work  # one of several
            assert isinstance(name, ast.Name)
            held = names[name.id]
            for one in held.values() if isinstance(held, dict) else (held,):
                yield f"{path.name}:{call.lineno}", one


class Apart(unittest.TestCase):
    def test_only_functions_of_the_core_are_given_away(self) -> None:
        works = list(_works())
        self.assertGreaterEqual(len(works), 9)
        for place, work in works:
            self.assertTrue(work.__module__.startswith("metaphon.core."), (place, work))
