"""Writes the published schemas from the models."""

import json

from metaphon.core.document.mix import schema
from metaphon.core.edits import registry
from metaphon.core.schemas import COMMANDS, MIX

for path, made in ((MIX, schema()), (COMMANDS, registry.schema())):
    text = json.dumps(made, indent=1, ensure_ascii=False)
    path.write_text(f"{text}\n", encoding="utf-8")
