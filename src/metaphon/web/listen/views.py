"""What the listen bar plays: rendered results, with the readings of the very samples heard."""

from django.http import HttpRequest, HttpResponseBase, JsonResponse
from django.shortcuts import get_object_or_404
from django.urls import reverse

from metaphon.web.mixes.models import Render, RenderFile
from metaphon.web.mixes.permissions import mix_for
from metaphon.web.shell.streaming import send_file


def sources(request: HttpRequest, mix_id: int) -> JsonResponse:
    """The newest result of every target and stem, whole mixes first."""
    mix = mix_for(request, mix_id)
    files = RenderFile.objects.filter(render__mix=mix, render__status=Render.Status.DONE, kind="audio")
    newest: dict[tuple[str, str], RenderFile] = {}
    for file in files.select_related("render").order_by("pk"):
        newest[file.stem, file.target] = file
    ordered = sorted(newest.values(), key=lambda file: (file.stem, -file.render_id, file.pk))
    return JsonResponse({"sources": [_source(file, mix.pk, mix.revision) for file in ordered]})


def _source(file: RenderFile, mix_id: int, revision: int) -> dict[str, object]:
    return {
        "id": file.pk,
        "title": file.title,
        "heard_as": "folded to stereo" if file.is_fold_down else "",
        "url": reverse("listen:sound", args=[mix_id, file.pk]),
        "duration_s": file.figures["duration_s"],
        "integrated_lufs": file.figures["integrated_lufs"],
        "true_peak_dbtp": file.figures["true_peak_dbtp"],
        "history": file.history,
        "out_of_date": file.render.revision != revision,
    }


def sound(request: HttpRequest, mix_id: int, file_id: int) -> HttpResponseBase:
    """The sound of one result for the page's player."""
    mix = mix_for(request, mix_id)
    row = get_object_or_404(RenderFile, pk=file_id, render__mix=mix, kind="audio")
    kind = "audio/flac" if str(row.listening.name).endswith("flac") else "audio/wav"
    return send_file(request, row.listening, kind)
