"""A mix of one's own for scripts: read as a document, edited by the commands of the core.

Signed in by token.
"""

from collections.abc import Callable
from functools import wraps
from typing import Any

from django.contrib.auth.decorators import login_not_required
from django.core.exceptions import PermissionDenied
from django.http import HttpRequest, JsonResponse
from django.views.decorators.csrf import csrf_exempt

from metaphon.core.edits.registry import MOST_COMMANDS, Batch, read_all
from metaphon.core.errors import InputError, StaleEdit
from metaphon.core.files.mixdoc import with_all_files
from metaphon.web.mixes import journal
from metaphon.web.mixes.access import user_of
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.permissions import User, can_edit
from metaphon.web.mixes.responses import with_files_of
from metaphon.web.mixes.snapshots import document_of
from metaphon.web.shell.posted import data_in

_LONGEST = 4_000_000
View = Callable[[HttpRequest, Mix, User], JsonResponse]


def _for_scripts(method: str) -> Callable[[View], Any]:
    """Answers in JSON whatever happens; a mix is not there for those who are no members of it."""

    def wrapped(view: View) -> Any:
        @csrf_exempt  # a token is no cookie, so that no other page can send it
        @login_not_required
        @wraps(view)
        def answered(request: HttpRequest, mix_id: int) -> JsonResponse:
            if request.method != method:
                return _refused(f"This address takes {method}.", 405)
            user = user_of(request)
            if user is None:
                return _refused(
                    "Send a token of yours as Authorization: Bearer TOKEN; make one under Mixes.",
                    401,
                )
            mix = Mix.objects.filter(pk=mix_id, members__user=user.pk).first()
            if mix is None:
                return _refused("There is no such mix.", 404)
            try:
                return view(request, mix, user)
            except StaleEdit as error:
                return _refused(str(error), 409)
            except InputError as error:
                return _refused(str(error), 422)
            except PermissionDenied as error:
                return _refused(str(error), 403)

        return answered

    return wrapped


def _refused(message: str, status: int) -> JsonResponse:
    return JsonResponse({"message": message}, status=status)


@_for_scripts("GET")
def document(request: HttpRequest, mix: Mix, user: User) -> JsonResponse:
    """The mix as a document, with its revision; recordings by their names in storage."""
    shown = with_all_files(document_of(mix), lambda file: type(file)(file.name))
    return JsonResponse(
        {
            "revision": mix.revision,
            "may_edit": can_edit(mix, user),
            "document": shown.model_dump(mode="json"),
        }
    )


@_for_scripts("POST")
def edits(request: HttpRequest, mix: Mix, user: User) -> JsonResponse:
    """Carry out commands as one step.

    `commands`, and `seen`, the revision that they are made against (optional).
    """
    if len(request.body) > _LONGEST:
        raise InputError("This is too much at once; send fewer commands.")
    data = data_in(request.body, 'This is no JSON; send {"commands": [...]}.')
    commands = [with_files_of(command, mix, user) for command in read_all(data)]
    seen = data.get("seen") if isinstance(data, dict) else None
    if len(commands) > MOST_COMMANDS:
        raise InputError(
            f"Send at most {MOST_COMMANDS:,} commands at once; these are {len(commands):,}."
        )
    command = commands[0] if len(commands) == 1 else Batch(commands=tuple(commands))
    applied = journal.apply(
        mix, user, command, seen if isinstance(seen, int) else None, may_overwrite=False
    )
    return JsonResponse({"revision": mix.revision, "edit": applied.what})
