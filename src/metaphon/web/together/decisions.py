"""A handover approved, or sent back with what is wrong: by name and time."""

from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_POST

from metaphon.core.errors import InputError
from metaphon.web.jobs.models import Render, Work
from metaphon.web.mixes import events
from metaphon.web.mixes.editing import editing
from metaphon.web.mixes.permissions import mix_for
from metaphon.web.mixes.watch import tell
from metaphon.web.together.models import Decision, Remark
from metaphon.web.together.remarks import words_of


@require_POST
def decide(request: HttpRequest, mix_id: int, render_id: int) -> HttpResponse:
    """Approve a handover, or send it back; why it is sent back stands among the remarks too."""
    mix = mix_for(request, mix_id)
    row = get_object_or_404(Render, pk=render_id, mix=mix)
    if row.status != Work.Status.DONE:
        raise InputError("This handover is not finished; wait for it.")
    approved = request.POST.get("approved") == "yes"
    if not approved and not request.POST.get("text", "").strip():
        raise InputError("Say what is wrong with it, so that it can be mended.")
    text = words_of(request) if request.POST.get("text", "").strip() else ""
    person = request.user.pk
    with transaction.atomic():
        Decision.objects.create(render=row, user_id=person, approved=approved, text=text)
        if not approved:
            Remark.objects.create(
                mix=mix, user_id=person, text=text, render=row, revision=row.revision
            )
        tell(mix)
        events.tell(mix, events.DECIDED, handover=row.pk, approved=approved, text=text)
    response = render(request, "together/decision.html", {**editing(request, mix), "row": row})
    if not approved:
        response["HX-Trigger"] = "remarks-changed"
    return response
