"""Where one can go in a mix: workspaces with their views, every track and bus, named states."""

from django.http import HttpRequest, JsonResponse
from django.urls import reverse

from metaphon.core.document.mix import Bus
from metaphon.web.mixes.permissions import mix_for
from metaphon.web.mixes.snapshots import document_of
from metaphon.web.shell.workspaces import WORKSPACES

_MOST_STATES = 200


def places(request: HttpRequest, mix_id: int) -> JsonResponse:
    """What can be found by typing: {title, detail, address} each."""
    mix = mix_for(request, mix_id)
    found: list[dict[str, object]] = []

    def add(title: str, detail: str, page: str, query: str = "") -> None:
        address = reverse(page, args=[mix.pk]) + query
        found.append({"title": title, "detail": detail, "address": address})

    for workspace in WORKSPACES:
        if workspace.tab:
            add(workspace.title, "workspace", workspace.page)
        for view, title in workspace.views:
            add(f"{workspace.title}: {title}", "view", workspace.page, f"?view={view}")
    for strip in document_of(mix).strips:
        kind = "bus" if isinstance(strip, Bus) else "track"
        add(strip.name, f"{kind}, open in Flow", "flow:show", f"?strip={strip.id}")
        if strip.placement.mode != "none" and not strip.resting:
            add(f"{strip.name}: place", "open in Field", "field:show", f"?strip={strip.id}")
    named = mix.journal.exclude(name="").defer("changes").order_by("-revision")
    for entry in named[:_MOST_STATES]:
        found.append(
            {
                "title": entry.name,
                "detail": f"state {entry.revision}, in History",
                "state": entry.revision,
            }
        )
    found.append({"title": "Mixes", "detail": "list", "address": reverse("mixes")})
    return JsonResponse({"places": found})
