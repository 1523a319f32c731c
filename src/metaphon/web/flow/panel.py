"""The panel of the strip that is open in Flow.

Its settings, what feeds it, its sends and its processors.
"""

from dataclasses import replace
from typing import Any

from django.urls import reverse

from metaphon.core.document.mix import COLOURS, LONGEST_NOTE, Bus, Strip, Track
from metaphon.core.document.mix import Mix as Document
from metaphon.core.document.targets import BUS_FORMATS, target_named
from metaphon.core.edits.routing import TAPS
from metaphon.core.process.registry import KINDS
from metaphon.web.flow.models import StartingPoint
from metaphon.web.flow.table import table
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.permissions import User
from metaphon.web.mixes.responses import title_of
from metaphon.web.shell.processors import part_of


def panel(
    mix: Mix,
    document: Document,
    strip: Strip,
    user: User,
    drawn: dict[str, Any] | None = None,
    open_part: int = 0,
) -> dict[str, Any]:
    """Everything the panel shows of one strip. `drawn` is the table drawn along with it.

    `open_part` is the processor whose controls are in sight.
    """
    rows = drawn["all_rows"] if drawn else []
    row = next((row for row in rows if row.strip.id == strip.id), None)
    row = row or table(mix, document, [strip.id])["all_rows"][0]
    awake = [one for one in document.strips if not one.resting]
    own = [strip.layout] if isinstance(strip, Bus) else []  # may be a layout of one's own
    prints = [track for track in document.tracks if track.print_of == strip.id]
    return {
        "chosen": strip,
        "row": row,
        "chain": [
            replace(part_of(n, p, strip, row.channels, mix.sample_rate_hz), response=title_of(p))
            for n, p in enumerate(strip.chain)
        ],
        "open_part": min(open_part, max(len(strip.chain) - 1, 0)),
        "kinds": [
            (kind, model.title, model.idle_on(_wide(strip, row.channels)))
            for kind, model in KINDS.items()
        ],
        "feeding": [(one, send) for one in awake for send in one.sends if send.bus == strip.id],
        "fed_by": [one for one in awake if one.output == strip.id],
        "takes": prints,
        "original": document.find_strip(strip.print_of)
        if isinstance(strip, Track) and strip.print_of
        else None,
        "group": next((group for group in document.groups if group.id == strip.group), None),
        "taps": TAPS.items(),
        "colours": COLOURS,
        "longest_note": LONGEST_NOTE,
        "points": list(StartingPoint.objects.filter(user=user.pk)),
        "formats": [target_named(name) for name in dict.fromkeys([*BUS_FORMATS, *own])],
        "base": reverse("flow:show", args=[mix.pk]),
    }


def _wide(strip: Strip, channels: int) -> int:
    """How many channels a processor would be given: a mono recording is put on two sides."""
    return 2 if channels == 1 and not isinstance(strip, Bus) else channels
