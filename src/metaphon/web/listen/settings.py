"""What a page has kept of how a mix is heard, read with forbearance.

A setting that cannot be used, or is not known, is left out and said; the others count.
"""

import json
from dataclasses import dataclass
from typing import Any

from pydantic import ValidationError

from metaphon.core.edits.registry import read
from metaphon.core.errors import InputError
from metaphon.core.listen.wishes import Hearing
from metaphon.web.listen.monitor_source import LostSetting, SettingPath, monitor_of
from metaphon.web.mixes.models import Mix
from metaphon.web.mixes.permissions import User
from metaphon.web.mixes.responses import with_files_of
from metaphon.web.shell.posted import as_object

_MOST = 100  # settings that are left out one by one


@dataclass(frozen=True)
class Forgotten:
    """A setting that was left out: where it stood, and a sentence for the listener."""

    path: SettingPath
    sentence: str


def read_settings(raw: Any, mix: Mix, user: User) -> tuple[Hearing, list[Forgotten]]:
    """Read the settings of a listener.

    Parameters
    ----------
    raw : Any
        What the page sent, of any shape.
    mix : Mix
        What is listened to; responses that it uses may be named.
    user : User
        Whose files of their own may be named.

    Returns
    -------
    tuple[Hearing, list[Forgotten]]
        What the engine takes, and what was left out of it.
    """
    state = json.loads(json.dumps(as_object(raw)))
    forgotten: list[Forgotten] = []
    for _ in range(_MOST):
        try:
            monitor = monitor_of(state.get("monitor") or {}, user)
            sides = _with_files(as_object(state.get("monitor_sources") or {}), mix, user)
            return Hearing.model_validate(
                {**state, "monitor": monitor, "monitor_sources": sides}
            ), forgotten
        except LostSetting as lost:
            found = Forgotten(lost.path, str(lost))
        except ValidationError as error:
            first = error.errors()[0]
            name = next((str(part) for part in reversed(first["loc"]) if isinstance(part, str)), "")
            words = name.replace("_", " ")
            found = Forgotten(
                first["loc"], f"One setting could not be used and was left out: {words}."
            )
        except (AttributeError, TypeError, ValueError):
            break
        at = _left_out(state, found.path)
        if not at:
            break
        forgotten.append(Forgotten(at, found.sentence))
    whole = "The settings kept for this mix could not be read; listening begins anew."
    empty = Hearing.model_validate({"monitor_sources": {}, "monitor": {}})
    return empty, [Forgotten((), whole)]


def _left_out(state: Any, path: SettingPath) -> SettingPath:
    """Take out of nested settings what stands at a path; gives where, or nothing.

    Of a list nothing is taken alone, since its places mean something: then all of it goes.
    """
    part: Any = state
    way: list[str | int] = []
    deepest: tuple[Any, SettingPath] | None = None
    for step in path:
        if isinstance(part, dict) and step in part:
            deepest = part, (*way, step)
            part = part[step]
        elif isinstance(part, list) and isinstance(step, int) and step < len(part):
            part = part[step]
        else:
            break
        way.append(step)
    if deepest is None:
        return ()
    owner, at = deepest
    del owner[at[-1]]
    return at


def _with_files(sides: dict[str, Any], mix: Mix, user: User) -> dict[str, Any]:
    """Both sides, the files of what one tries where they lie."""
    found = {}
    for side, one in sides.items():
        found[side] = dict(as_object(one))
        if trying := found[side].get("trying"):
            try:
                command = with_files_of(read(json.loads(str(trying))), mix, user)
            except (InputError, ValueError):
                raise LostSetting(
                    ("monitor_sources", side, "trying"), "What was tried out is no longer there."
                ) from None
            found[side]["trying"] = json.dumps(command.model_dump(mode="json"))
    return found
