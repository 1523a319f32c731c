"""What is installed has everything that the program reads beside its code."""

import tomllib
import unittest
from pathlib import Path

_ROOT = Path(__file__).parents[2]
_SOURCE = _ROOT / "src"


class Package(unittest.TestCase):
    def test_every_file_beside_the_code_goes_along(self) -> None:
        told = tomllib.loads((_ROOT / "pyproject.toml").read_text(encoding="utf-8"))
        patterns = told["tool"]["setuptools"]["package-data"]["*"]
        packages = [file.parent for file in _SOURCE.rglob("__init__.py")]
        taken = {
            path.resolve() for folder in packages for one in patterns for path in folder.glob(one)
        }
        held = {
            path.resolve()
            for path in (_SOURCE / "metaphon").rglob("*")
            if path.is_file() and path.suffix != ".py" and path.parent.name != "__pycache__"
        }
        self.assertGreater(len(held), 200)
        self.assertEqual(held - taken, set())

    def test_the_guide_and_its_pictures_are_in_the_package(self) -> None:
        folder = _SOURCE / "metaphon" / "docs"
        self.assertTrue(list(folder.glob("guide/*.md")) and list(folder.glob("screenshots/*.png")))
