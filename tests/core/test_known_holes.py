"""No package is pinned in a version with a hole that was published and written down here."""

import json
import re
import unittest
from pathlib import Path

from packaging.version import Version

_FOLDER = Path(__file__).parents[2] / "requirements"
_PINNED = re.compile(r"^([A-Za-z0-9_.-]+)==([^\s;\\]+)", re.MULTILINE)


def holes_in(pinned: str) -> list[str]:
    """The holes of the packages in a locked list."""
    known = json.loads((_FOLDER / "known_holes.json").read_text())["holes"]
    versions = [(name.lower(), Version(text)) for name, text in _PINNED.findall(pinned)]
    return [
        f"{name} {version}: {hole['id']}, fixed in {hole['fixed_in']}"
        for name, version in versions
        for hole in known
        if hole["package"] == name and version < Version(hole["fixed_in"])
    ]


class KnownHoles(unittest.TestCase):
    def test_none_is_pinned(self) -> None:
        for name in ("run.txt", "test.txt"):
            pinned = (_FOLDER / name).read_text()
            self.assertGreater(len(_PINNED.findall(pinned)), 40)
            self.assertEqual(holes_in(pinned), [], name)

    def test_one_would_be_found(self) -> None:
        found = holes_in("django==5.2.5 \\\n    --hash=sha256:00\nh11==0.16.0 \\\n")
        self.assertEqual(len(found), 3)
        self.assertIn("django 5.2.5: CVE-2025-57833, fixed in 5.2.6", found)
