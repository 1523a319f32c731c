"""The list of mixes: found by name, sorted, each with its length, its picture and its people."""

from dataclasses import dataclass
from typing import Any

from django.db.models import Count, F, FloatField, Max, Q, QuerySet
from django.db.models.functions import Cast, Coalesce, Lower
from django.http import HttpRequest

from metaphon.web.mixes.models import Clip, Mix, Strip
from metaphon.web.mixes.outline import outline_path

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


def listing(request: HttpRequest) -> dict[str, Any]:
    """The mixes of a person that fit what was typed, in the order that was chosen."""
    words, away = request.GET.get("q", "").strip(), request.GET.get("away") == "1"
    sort = request.GET.get("sort", "changed")
    sort = sort if sort in SORTS else "changed"

    def theirs(**more: bool) -> QuerySet[Mix]:
        return Mix.objects.filter(members__user=request.user.pk, **more)

    rows = _found(theirs(members__put_away=away), words, sort)
    clips: dict[int, list[Clip]] = {}
    shown: list[Any] = list(rows[:_SHOWN])
    sounding = Clip.objects.filter(track__mix__in=[mix.pk for mix in shown], track__resting=False)
    for clip in sounding.select_related("audio", "track__mix"):
        clips.setdefault(clip.track.mix_id, []).append(clip)
    return {
        "mixes": [
            MixShown(mix, outline_path(clips[mix.pk], mix.length_s) if mix.pk in clips else "")
            for mix in shown
        ],
        "more": max(rows.count() - _SHOWN, 0),
        "words": words,
        "away": away,
        "sort": sort,
        "sorts": [(name, title) for name, (title, _) in SORTS.items()],
        "put_away": theirs(members__put_away=True).count(),
        "any": theirs().exists(),
    }


def _found(theirs: QuerySet[Mix], words: str, sort: str) -> QuerySet[Mix]:
    for word in words.split():
        theirs = theirs.filter(title__icontains=word)
    clip = "strips__clips"
    recorded_s = Cast(F(f"{clip}__audio__frames"), FloatField()) / F("sample_rate_hz")
    length_s = Coalesce(F(f"{clip}__length_s"), recorded_s - F(f"{clip}__in_s"))
    return (
        theirs.annotate(
            role=F("members__role"),
            tracks=Count("strips", filter=Q(strips__kind=Strip.Kind.TRACK), distinct=True),
            buses=Count("strips", filter=Q(strips__kind=Strip.Kind.BUS), distinct=True),
            length_s=Coalesce(Max(F(f"{clip}__start_s") + length_s), 0.0),
            changed_at=Coalesce(Max("journal__created_at"), F("created_at")),
        )
        .prefetch_related("targets", "members__user")
        .order_by(SORTS[sort][1], "-pk")
    )
