"""Programmes beside the mix, and the receiver on which they are tried as a listener would."""

import json
from dataclasses import dataclass

from django.http import HttpRequest, HttpResponse

from metaphon.core.document.alternatives import Alternative, Varied
from metaphon.core.document.mix import Mix as Document
from metaphon.core.document.mix import Strip
from metaphon.core.document.targets import OFFERED, target_named
from metaphon.web.jobs.models import Render, RenderFile
from metaphon.web.mixes.editing import after_edit, carry_out
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.permissions import changes_mix
from metaphon.web.mixes.snapshots import document_of

HEARD = (("as_in_mix", "As mixed"), ("heard", "Heard"), ("silent", "Silent"))
LIMITS = ("least_db", "most_db", "azimuth_deg", "elevation_deg")


@dataclass(frozen=True)
class Row:
    """A strip that varies: what a listener may do with it, and what each programme does."""

    strip: Strip
    varied: Varied
    cells: list[tuple[Alternative, object]]

    @property
    def may_be_placed(self) -> bool:
        """Whether there is a place that a listener could change."""
        return self.strip.placement.mode == "object"


def rows(document: Document) -> list[Row]:
    """The strips that vary and are there."""
    return [
        Row(strip, one, [(p, p.of(strip.id)) for p in document.alternatives.programmes])
        for one in document.alternatives.varied
        if (strip := document.find_strip(one.strip))
    ]


def shown(request: HttpRequest, mix: Mix) -> dict[str, object]:
    """What the view of alternatives shows."""
    document = document_of(mix)
    held = rows(document)
    taken = {row.strip.id for row in held}
    return {
        "rows": held,
        "heard": HEARD,
        "limits": LIMITS,
        "language": document.alternatives.language,
        "programmes": [
            (one, _loudness(mix, one.id), _source(one.id))
            for one in document.alternatives.programmes
        ],
        "own_source": _source(""),
        "own_loudness": _loudness(mix, ""),
        "others": [strip for strip in document.strips if strip.id not in taken],
    }


def _source(alternative: str) -> str:
    """What is heard of a programme, as buttons say it."""
    return json.dumps({"alternative": alternative})


def _loudness(mix: Mix, alternative: str) -> RenderFile | None:
    """The newest file of a programme, whose figures say how loud it is."""
    files = RenderFile.objects.filter(
        render__mix=mix,
        render__status=Render.Status.DONE,
        kind="audio",
        stem="",
        alternative=alternative,
    )
    return files.order_by("-render_id", "pk").first()


@changes_mix
def edit(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Carry out a command; gives the table anew."""
    mix, _ = carry_out(request, mix_id)
    return after_edit(request, mix, "handover/programmes.html", shown(request, mix))


def receiver(request: HttpRequest, mix: Mix) -> dict[str, object]:
    """What a listener is offered."""
    document = document_of(mix)
    own = [*document.targets, *(name for name in OFFERED if name not in document.targets)]
    held = [row for row in rows(document) if row.varied.is_open]
    choices: dict[str, list[Row]] = {}
    for row in held:
        if row.varied.choice:
            choices.setdefault(row.varied.choice, []).append(row)
    return {
        "programmes": [
            ("", mix.title, document.alternatives.language),
            *((one.id, one.name, one.language) for one in document.alternatives.programmes),
        ],
        "targets": [target_named(name) for name in own],
        "rows": held,
        "choices": choices.items(),
        "told": {
            "in_mix": {row.strip.id: not row.strip.muted and not row.strip.resting for row in held},
            "heard": {
                one.id: {v.strip: v.heard for v in one.variations}
                for one in document.alternatives.programmes
            },
        },
    }
