"""The list of mixes: found by name, sorted, each with its length, its picture and its people."""

from dataclasses import dataclass
from typing import Any

from django.conf import settings
from django.core.paginator import Paginator
from django.db.models import Count, F, FloatField, Max, OuterRef, QuerySet, Subquery, Sum, Value
from django.db.models.fields.json import KeyTextTransform
from django.db.models.functions import Cast, Coalesce, Lower
from django.http import HttpRequest

from metaphon.core.document.targets import target_named
from metaphon.web.mixes.models import AudioFile, Clip, JournalEntry, Mix, Strip
from metaphon.web.mixes.outline import outline_path
from metaphon.web.mixes.space import held_bytes, owned_by
from metaphon.web.shell.templatetags.figures import size

SORTS: dict[str, tuple[str, Any]] = {
    "changed": ("Last changed", "-changed_at"),
    "name": ("Name", Lower("title")),
    "length": ("Length", "-length_s"),
    "made": ("Made", "-created_at"),
}
_SHOWN = 40


@dataclass(frozen=True)
class MixShown:
    """A row of the list."""

    mix: Any  # with what `_found` adds to it
    outline: str
    formats: list[str]  # without their standards' names


def listing(request: HttpRequest) -> dict[str, Any]:
    """The mixes of a person that fit what was typed, in the order that was chosen."""
    words, away = request.GET.get("q", "").strip(), request.GET.get("away") == "1"
    sort = request.GET.get("sort", "changed")
    sort = sort if sort in SORTS else "changed"

    def theirs(**more: bool) -> QuerySet[Mix]:
        return Mix.objects.filter(members__user=request.user.pk, **more)

    rows = _found(theirs(members__put_away=away), words, sort)
    clips: dict[int, list[Clip]] = {}
    page = Paginator(rows, _SHOWN).get_page(request.GET.get("page"))
    shown: list[Any] = list(page)
    sounding = Clip.objects.filter(
        track__mix__in=[mix.pk for mix in shown], track__values__resting=False
    )
    for clip in sounding.select_related("audio", "track__mix"):
        clips.setdefault(clip.track.mix_id, []).append(clip)
    return {
        "mixes": [
            MixShown(
                mix,
                outline_path(clips[mix.pk], mix.length_s) if mix.pk in clips else "",
                [target_named(name).title.split(" (")[0] for name in mix.values["targets"]],
            )
            for mix in shown
        ],
        "page": page,
        "words": words,
        "away": away,
        "sort": sort,
        "sorts": [(name, title) for name, (title, _) in SORTS.items()],
        "put_away": theirs(members__put_away=True).count(),
        "any": theirs().exists(),
        "held": size(held_bytes(owned_by(request.user))),
        "share": size(settings.PERSON_BYTES),
    }


def _found(theirs: QuerySet[Mix], words: str, sort: str) -> QuerySet[Mix]:
    for word in words.split():
        theirs = theirs.filter(title__icontains=word)
    recorded_s = Cast(F("audio__frames"), FloatField()) / F("track__mix__sample_rate_hz")
    start_s, length_s, in_s = (_number(name) for name in ("start_s", "length_s", "in_s"))
    end_s = start_s + Coalesce(length_s, recorded_s - in_s)
    clips = Clip.objects.filter(track__mix=OuterRef("pk"))
    recordings = AudioFile.objects.filter(mix=OuterRef("pk"))
    last = JournalEntry.objects.filter(pk=OuterRef("state"))
    return (
        theirs.annotate(
            role=F("members__role"),
            tracks=_strips(Strip.Kind.TRACK),
            buses=_strips(Strip.Kind.BUS),
            length_s=Coalesce(_one(clips, Max(end_s)), 0.0),
            recorded_bytes=Coalesce(_one(recordings, Sum("bytes")), 0),
            changed_at=Coalesce(Subquery(last.values("created_at")), F("created_at")),
        )
        .prefetch_related("members__user")
        .order_by(SORTS[sort][1], "-pk")
    )


def _number(name: str) -> Cast:
    """A number among the values of a row."""
    return Cast(KeyTextTransform(name, "values"), FloatField())


def _strips(kind: Strip.Kind) -> Coalesce:
    return Coalesce(_one(Strip.objects.filter(mix=OuterRef("pk"), kind=kind), Count("pk")), 0)


def _one(rows: QuerySet[Any], figure: Any) -> Subquery:
    """One figure over all of some rows."""
    return Subquery(
        rows.order_by()
        .annotate(all=Value(1))
        .values("all")
        .annotate(figure=figure)
        .values("figure")
    )
