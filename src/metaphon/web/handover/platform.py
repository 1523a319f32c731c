"""The simulated platform that files are sent to: what it asks, and what it says of each."""

from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from metaphon.core.checks.acceptance import RULE_SETS
from metaphon.core.errors import InputError, Vanished
from metaphon.web.jobs.models import Render, RenderFile, Submission
from metaphon.web.jobs.tasks import receive_file
from metaphon.web.mixes.editing import editing
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.permissions import changes_mix, mix_for
from metaphon.web.shell.fragments import fragment_of
from metaphon.web.shell.posted import number_in

_SHOWN = 12
_OFFERED = 8  # handovers


def shown(request: HttpRequest, mix: Mix) -> dict[str, object]:
    """What can be sent, and what became of what was."""
    done = mix.renders.filter(status=Render.Status.DONE).prefetch_related("files")[:_OFFERED]
    submissions = list(mix.submissions.select_related("file")[:_SHOWN])
    return {
        "rule_sets": RULE_SETS.items(),
        "handovers": [
            (row, [file for file in row.files.all() if file.kind == "audio" and not file.stem])
            for row in done
        ],
        "submissions": [(row, RULE_SETS[row.options["rules"]]) for row in submissions],
        "open": any(row.is_open for row in submissions),
    }


def _drawn(request: HttpRequest, mix: Mix) -> HttpResponse:
    context = {**editing(request, mix), **shown(request, mix)}
    return render(request, "handover/receipts.html", context)


@fragment_of("handover:show")
def progress(request: HttpRequest, mix_id: int) -> HttpResponse:
    """The receipts, with those that have come since."""
    return _drawn(request, mix_for(request, mix_id))


@changes_mix
def send(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Send a finished file to the platform."""
    mix = mix_for(request, mix_id)
    number = number_in(request.POST.get("file", ""))
    rules = request.POST.get("rules", "")
    if rules not in RULE_SETS:
        raise InputError("Choose what the platform asks for.")
    if number is None:
        raise InputError("Choose a file to send; hand over first where there is none.")
    file = RenderFile.objects.filter(pk=number, render__mix=mix, kind="audio").first()
    if file is None:
        raise Vanished("This file is no longer there; choose another.")
    with transaction.atomic():
        row = Submission.objects.create(
            mix=mix,
            user_id=request.user.pk,
            file=file,
            name=file.name,
            options={"rules": rules},
        )
        receive_file.defer(submission_id=row.pk)
    return _drawn(request, mix)
