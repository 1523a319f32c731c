"""What the page says of the fold-down: its levels, and where each loudspeaker then plays."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from metaphon.core.document.fold_down import FoldDown
from metaphon.core.document.mix import Mix as Document
from metaphon.core.document.targets import target_named
from metaphon.core.spatial.downmix import conversion
from metaphon.core.spatial.layouts import LAYOUTS, Layout
from metaphon.web.shell.templatetags.figures import signed

_SILENT = 1e-5
STARTS_AT_DB = -6.0  # an LFE that is folded down for the first time


@dataclass(frozen=True)
class Folded:
    """A loudspeaker, and in words where each narrower target plays it."""

    label: str
    parts: list[str]


def folding(document: Document) -> dict[str, Any]:
    """The fold-down of a mix, told by its widest layout and all narrower ones among its targets."""
    layouts = [target_named(name).layout for name in document.targets]
    found = sorted((one for one in layouts if one), key=lambda one: -one.channels)
    widest = found[0] if found and found[0].channels > 2 else LAYOUTS["4+7+0"]
    narrower = [one for one in found if one.channels < widest.channels] or [LAYOUTS["0+2+0"]]
    tables = [
        (one, conversion(widest.name, one.name, document.fold_down.shares)) for one in narrower
    ]
    rows = [
        Folded(label, [_words(one, matrix[:, channel]) for one, matrix in tables])
        for channel, label in enumerate(widest.labels)
    ]
    return {
        "fold_down": document.fold_down,
        "fold_levels": [
            (
                f"{name}_db",
                name.capitalize(),
                getattr(document.fold_down, f"{name}_db"),
                FoldDown.model_fields[f"{name}_db"].description,
            )
            for name in ("centre", "surround", "height")
        ],
        "fold_from": widest,
        "fold_into": narrower,
        "fold_rows": rows,
        "fold_lfe_starts_at": STARTS_AT_DB,
    }


def _words(layout: Layout, gains: np.ndarray) -> str:
    """Such as "M+030 −3.0, M-030 −3.0"; a dash for what is played nowhere."""
    parts = [
        f"{label} {signed(20.0 * np.log10(gain))}"
        for label, gain in zip(layout.labels, gains, strict=True)
        if gain > _SILENT
    ]
    return ", ".join(parts) or "–"
