"""The audit trail of a mix, for its owners."""

from django.core.paginator import Paginator
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.utils.http import content_disposition_header

from metaphon.web.audit.recording import entries_as_csv, entries_of_mix
from metaphon.web.mixes.permissions import owned

_SHOWN = 100


def audit_of_mix(request: HttpRequest, mix_id: int) -> HttpResponse:
    """Who let whom in, handed over and downloaded; as a page, or with `csv` as a table."""
    mix = owned(request, mix_id)
    entries = entries_of_mix(mix)
    if "csv" in request.GET:
        response = HttpResponse(entries_as_csv(entries.iterator()), content_type="text/csv")
        name = f"Audit trail of {mix.title}.csv"
        response["Content-Disposition"] = content_disposition_header(True, name) or "attachment"
        return response
    page = Paginator(entries, _SHOWN).get_page(request.GET.get("page"))
    return render(request, "mixes/audit.html", {"mix": mix, "page": page})
