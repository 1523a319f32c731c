"""The JSON schemas of the mix document and of the commands that edit it, as they are published.

They are files beside this module, so that they can be read at once and without the program. After
a change of the models, `python -m metaphon.core.schemas` writes them anew.
"""

import json
from pathlib import Path
from typing import Any

MIX = Path(__file__).with_name("mix.schema.json")
COMMANDS = Path(__file__).with_name("commands.schema.json")


def published(path: Path) -> dict[str, Any]:
    """One of the two as decoded JSON."""
    found: dict[str, Any] = json.loads(path.read_text(encoding="utf-8"))
    return found
