"""Chains that people keep under a name, to begin with elsewhere."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_POST
from pydantic import TypeAdapter

from metaphon.core.edits.chains import SetChain
from metaphon.core.edits.command import strip_of
from metaphon.core.errors import InputError
from metaphon.core.process.registry import KINDS, AnyProcessor
from metaphon.web.flow.models import StartingPoint
from metaphon.web.flow.views import changed
from metaphon.web.mixes.editing import carry_out
from metaphon.web.mixes.permissions import changes_mix, mix_for
from metaphon.web.mixes.snapshots import document_of

_CHAIN: TypeAdapter[tuple[AnyProcessor, ...]] = TypeAdapter(tuple[AnyProcessor, ...])


@require_POST
def keep(request: HttpRequest, mix_id: int, strip_id: str) -> HttpResponse:
    """Keep the chain of a strip under a name, as a starting point of one's own."""
    mix = mix_for(request, mix_id)
    strip = strip_of(document_of(mix), strip_id)
    name = request.POST.get("name", "").strip()[:120]
    if not name:
        raise InputError("A starting point needs a name; type one.")
    if not strip.chain:
        raise InputError(f"{strip.name} has no processors to keep.")
    chain = [processor.model_dump(mode="json") for processor in strip.chain]
    StartingPoint.objects.update_or_create(
        user_id=int(request.user.pk or 0), name=name, defaults={"chain": chain}
    )
    return changed(request, mix, [strip.id])


@changes_mix
def load(request: HttpRequest, mix_id: int, strip_id: str) -> HttpResponse:
    """Set a strip's chain from a starting point, or with `forget` take the starting point away."""
    mix = mix_for(request, mix_id)
    text = request.POST.get("point", "")
    point = get_object_or_404(
        StartingPoint, pk=int(text) if text.isdecimal() else 0, user=request.user.pk
    )
    if "forget" in request.POST:
        point.delete()
        return changed(request, mix, [strip_id])
    known = [each for each in point.chain if each["kind"] in KINDS]
    command = SetChain(strip=strip_id, chain=_CHAIN.validate_python(known), name=point.name)
    mix, _ = carry_out(request, mix_id, command)
    return changed(request, mix, [strip_id])
