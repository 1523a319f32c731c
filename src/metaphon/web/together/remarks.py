"""Remarks on a mix: made, answered, resolved, given out as a list and as markers."""

from typing import Any

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.utils.timezone import now
from django.views.decorators.http import require_POST

from metaphon.core.document.part import LATEST_S
from metaphon.core.edits.command import strip_of
from metaphon.core.edits.markers import AddMarker
from metaphon.core.edits.registry import Batch
from metaphon.core.edits.typed_values import read_number
from metaphon.core.engine.naming import safe_title
from metaphon.core.errors import InputError
from metaphon.core.files.tables import as_csv
from metaphon.web.mixes import events
from metaphon.web.mixes.editing import carry_out, editing
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.permissions import can_edit, changes_mix, mix_for
from metaphon.web.mixes.snapshots import document_of
from metaphon.web.mixes.watch import tell
from metaphon.web.shell.called import called
from metaphon.web.shell.fragments import fragment_of
from metaphon.web.together.models import MOST_WORDS, Remark

_MOST = 2000  # of one mix
_SHOWN = 200
_COLUMNS = ["start_s", "end_s", "track", "who", "remark", "answers", "made", "revision", "resolved"]


@fragment_of("open_mix")
def show(request: HttpRequest, mix_id: int) -> HttpResponse:
    """The list, with the button that says how many are open."""
    whole = "form" in request.GET
    return _drawn(request, mix_for(request, mix_id), "open" if whole else "remarks")


def _drawn(
    request: HttpRequest, mix: Mix, template: str = "remarks", *, fresh_strips: bool = False
) -> HttpResponse:
    resolved = request.GET.get("resolved", request.POST.get("resolved")) == "1"
    rows = mix.remarks.filter(resolved_at__isnull=not resolved)
    strips = {strip.id: strip.name for strip in document_of(mix).strips}
    shown = rows.select_related("user", "resolved_by", "render").prefetch_related("answers__user")
    context = {
        **editing(request, mix),
        "rows": [(row, strips.get(row.strip, "")) for row in shown[:_SHOWN]],
        "strips": strips.items(),
        "resolved": resolved,
        "open_count": mix.remarks.filter(resolved_at=None).count(),
        "resolved_count": mix.remarks.exclude(resolved_at=None).count(),
        "most_words": MOST_WORDS,
        "fresh_strips": fresh_strips,
    }
    return render(request, f"together/{template}.html", context)


@require_POST
def add(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Make a remark; whoever may listen may make one."""
    mix = mix_for(request, mix_id)
    text = words_of(request)
    if mix.remarks.count() >= _MOST:
        raise InputError(f"A mix has at most {_MOST} remarks; delete some that are resolved first.")
    start_s, end_s = time_in(request, "start_s"), time_in(request, "end_s")
    if end_s is not None and (start_s is None or end_s <= start_s):
        raise InputError("A span ends after it begins; choose another end.")
    strip = request.POST.get("strip", "")
    if strip:
        strip_of(document_of(mix), strip)
    row = Remark.objects.create(
        mix=mix,
        user_id=request.user.pk,
        text=text,
        start_s=start_s,
        end_s=end_s,
        strip=strip,
        revision=mix.revision,
    )
    tell(mix)
    events.tell(mix, events.REMARK, remark=row.pk, text=text, start_s=start_s, end_s=end_s)
    return _drawn(request, mix, fresh_strips=True)


def words_of(request: HttpRequest) -> str:
    """What was typed. Raises InputError for nothing and for too much."""
    text = request.POST.get("text", "").strip()
    if not text:
        raise InputError("A remark needs words; type some.")
    if len(text) > MOST_WORDS:
        raise InputError(f"A remark has at most {MOST_WORDS} letters; make two of it.")
    return text


def time_in(request: HttpRequest, name: str) -> float | None:
    """A time that was posted, in seconds; None where none was."""
    text = request.POST.get(name, "").strip()
    return read_number(text, "The time", 0.0, LATEST_S, "s") if text else None


def _remark(request: HttpRequest, mix_id: int, number: int) -> Remark:
    return get_object_or_404(Remark, pk=number, mix=mix_for(request, mix_id))


@require_POST
def answer(request: HttpRequest, mix_id: int, number: int) -> HttpResponse:
    """Say something to a remark."""
    row = _remark(request, mix_id, number)
    row.answers.create(user_id=request.user.pk, text=words_of(request))
    tell(row.mix)
    return _drawn(request, row.mix)


@require_POST
def resolve(request: HttpRequest, mix_id: int, number: int) -> HttpResponse:
    """Say that a remark is dealt with, or that it is not."""
    row = _remark(request, mix_id, number)
    _require_say(request, row)
    again = row.is_resolved
    row.resolved_at = None if again else now()
    row.resolved_by_id = None if again else request.user.pk
    row.save(update_fields=["resolved_at", "resolved_by"])
    tell(row.mix)
    return _drawn(request, row.mix)


@require_POST
def remove(request: HttpRequest, mix_id: int, number: int) -> HttpResponse:
    """Delete a remark with its answers."""
    row = _remark(request, mix_id, number)
    _require_say(request, row)
    row.delete()
    tell(row.mix)
    return _drawn(request, row.mix)


def _require_say(request: HttpRequest, row: Remark) -> None:
    """Raises InputError for those who neither made a remark nor may edit its mix."""
    if row.user_id != request.user.pk and not can_edit(row.mix, request.user):
        raise InputError("Only who made a remark, or may edit the mix, can do this.")


@changes_mix
def as_markers(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Make a marker of each open remark that has a place, so that files carry them as cues."""
    mix = mix_for(request, mix_id)
    rows = mix.remarks.filter(resolved_at=None, start_s__isnull=False).select_related("user")
    held = {(marker.at_s, marker.name) for marker in document_of(mix).markers}
    wanted = [(row.start_s, f"{row.author}: {row.text}"[:120]) for row in rows]
    fresh = [AddMarker(at_s=at_s, name=name) for at_s, name in wanted if (at_s, name) not in held]
    if not fresh:
        raise InputError("There is no open remark with a place that is not a marker yet.")
    words = f"Made markers of {len(fresh)} remarks"
    mix, _ = carry_out(request, mix_id, Batch(commands=tuple(fresh), words=words))
    response = _drawn(request, mix)
    response["HX-Trigger"] = "mix-edited, mix-changed"
    return response


def listed(request: HttpRequest, mix_id: int) -> HttpResponse:
    """All remarks as a table."""
    mix = mix_for(request, mix_id)
    strips = {strip.id: strip.name for strip in document_of(mix).strips}
    rows = mix.remarks.select_related("user").prefetch_related("answers__user")
    text = as_csv(_COLUMNS, [_line(row, strips) for row in rows])
    response = HttpResponse(text, content_type="text/csv; charset=utf-8")
    name = f"{safe_title(mix.title)}_remarks.csv"
    response["Content-Disposition"] = f'attachment; filename="{name}"'
    return response


def _line(row: Remark, strips: dict[str, str]) -> list[Any]:
    answers = " | ".join(f"{called(one.user)}: {one.text}" for one in row.answers.all())
    return [
        "" if row.start_s is None else f"{row.start_s:.3f}",
        "" if row.end_s is None else f"{row.end_s:.3f}",
        strips.get(row.strip, row.strip),
        row.author,
        row.text,
        answers,
        f"{row.created_at:%Y-%m-%d %H:%M}",
        row.revision,
        f"{row.resolved_at:%Y-%m-%d %H:%M}" if row.resolved_at else "",
    ]


def places(mix: Mix) -> list[dict[str, Any]]:
    """Where the open remarks of a mix are, for the time line."""
    rows = mix.remarks.filter(resolved_at=None, start_s__isnull=False)
    return [{"start_s": row.start_s, "end_s": row.end_s} for row in rows.only("start_s", "end_s")]
