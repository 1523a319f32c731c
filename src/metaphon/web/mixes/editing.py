"""From what a page sends to a command, and what the page needs to know of the change."""

from typing import Any

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from metaphon.core.document.mix import Mix as Document
from metaphon.core.edits.command import Command
from metaphon.core.edits.registry import read
from metaphon.web.mixes import journal
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.permissions import can_edit, mix_for
from metaphon.web.mixes.responses import with_files_of
from metaphon.web.shell.posted import data_in, number_in


def command_from(request: HttpRequest, mix: Mix) -> Command:
    """The command that was posted, as JSON. Raises InputError in one sentence."""
    command = read(data_in(request.POST.get("command", "")))
    return with_files_of(command, mix, request.user)


def carry_out(
    request: HttpRequest, mix_id: int, command: Command | None = None
) -> tuple[Mix, journal.Applied]:
    """Apply the command that was posted, or another, against what the page showed."""
    mix = mix_for(request, mix_id)
    wanted = command or command_from(request, mix)
    return mix, journal.apply(
        mix, request.user, wanted, seen(request), request.POST.get("edit", "")
    )


def seen(request: HttpRequest) -> int | None:
    """The revision of the mix that the page showed when the edit was made."""
    return number_in(request.headers.get("X-Seen-Revision", ""))


def ids_in(request: HttpRequest, name: str = "ids") -> list[str]:
    """The ids of strips that were posted, separated by commas."""
    return [text for text in request.POST.get(name, "").split(",") if text]


def strips_changed(before: Document, after: Document) -> list[str] | None:
    """The ids of the strips that look otherwise than before.

    None where more than rows of their own may.
    """
    old, new = ({strip.id: strip for strip in mix.strips} for mix in (before, after))
    if list(old) != list(new):
        return None
    found = [
        strip_id
        for strip_id, strip in new.items()
        if old[strip_id] is not strip and old[strip_id] != strip
    ]
    if any(_seen_elsewhere(old[strip_id]) != _seen_elsewhere(new[strip_id]) for strip_id in found):
        return None
    lanes = {
        lane.target.split("/", 1)[0] for lane in set(before.automation) ^ set(after.automation)
    }
    groups = {group.id for group in set(before.groups) ^ set(after.groups)}
    grouped = [strip_id for strip_id, strip in new.items() if strip.group in groups]
    return list(dict.fromkeys([*found, *grouped, *lanes]))


def _seen_elsewhere(strip: Any) -> tuple[Any, ...]:
    return strip.name, strip.resting, strip.group, getattr(strip, "layout", None)


def editing(request: HttpRequest, mix: Mix) -> dict[str, object]:
    """What the history buttons and every control of a mix need."""
    may = can_edit(mix, request.user)
    return {
        "mix": mix,
        "can_edit": may,
        "read_only": not may,
        "undo": journal.next_undo(mix, request.user),
        "redo": journal.next_redo(mix, request.user),
    }


def after_edit(
    request: HttpRequest, mix: Mix, template: str, context: dict[str, object]
) -> HttpResponse:
    """The changed fragment, with the history buttons brought up to date beside it."""
    response = render(
        request, "shell/after_edit.html", {**editing(request, mix), **context, "template": template}
    )
    response["HX-Trigger"] = "mix-edited"
    return response
