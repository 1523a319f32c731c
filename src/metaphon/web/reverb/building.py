"""Spaces of one's own: described, foretold, simulated, brought in, given out, let go."""

import tempfile
import uuid
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from django.db import transaction
from django.http import HttpRequest, QueryDict
from pydantic import BaseModel, ValidationError

from metaphon.core.document.mix import Mix as Document
from metaphon.core.edits.typed_values import label_of, read_value
from metaphon.core.errors import InputError, sentence_case
from metaphon.core.files.apart import read_apart
from metaphon.core.process.impulse_response import form_for
from metaphon.core.spaces.materials import BANDS_HZ, decay_by_eyring_s, decay_by_sabine_s
from metaphon.core.spaces.response_files import as_flac
from metaphon.core.spaces.space import Microphone, Room, Source, Space
from metaphon.web.jobs.models import SpaceSimulation
from metaphon.web.jobs.tasks import simulate_space
from metaphon.web.mixes.models import Mix, SpaceResponse, discard
from metaphon.web.mixes.permissions import User
from metaphon.web.mixes.recordings import keep
from metaphon.web.mixes.space import require_own_space, reserving
from metaphon.web.reverb.catalogue import responses_of
from metaphon.web.shell.controls import numeric_of

MOST_MICROPHONES = 3
_PLAN = 260.0  # of the drawing
_FORMS = {
    1: "mono",
    2: "stereo",
    4: "first order or true stereo",
    6: "5.1",
    9: "second order",
    16: "third order",
}


def shown(mix: Mix, document: Document, given: QueryDict, user: User) -> dict[str, Any]:
    """The space that is described, and all that there are."""
    own = responses_of(user)
    held = next((one for one in own if str(one.pk) == given.get("response", "")), None)
    space = Space.model_validate(held.space) if held and held.space else Space()
    return {
        **described(space),
        "responses": [_listed(one, user) for one in own],
        "simulation": mix.simulations.first(),
    }


def described(space: Space) -> dict[str, Any]:
    """The fields of a space, its plan, and what its decay will be by formula."""
    parts: list[tuple[str, str, BaseModel]] = [
        ("Room", "room", space.room),
        ("Source", "source", space.source),
        *(
            (f"Microphone {number + 1}", f"microphone{number}", one)
            for number, one in enumerate(space.microphones[:MOST_MICROPHONES])
        ),
    ]
    return {
        "space": space,
        "groups": [
            {"title": title, "prefix": prefix, "fields": _fields(part, prefix)}
            for title, prefix, part in parts
        ],
        "microphones": len(space.microphones),
        "most_microphones": MOST_MICROPHONES,
        "plan": _plan(space),
        "section": _section(space),
        "foretold": list(
            zip(
                BANDS_HZ,
                decay_by_sabine_s(space.room),
                decay_by_eyring_s(space.room),
                strict=True,
            )
        ),
    }


def _fields(part: BaseModel, prefix: str) -> list[dict[str, Any]]:
    found = []
    for name, field in type(part).model_fields.items():
        choices = getattr(field.annotation, "__args__", ())
        sort = (
            "choice"
            if choices and field.annotation is not bool
            else "switch"
            if field.annotation is bool
            else "number"
            if field.annotation is float
            else "text"
        )
        found.append(
            {
                "name": f"{prefix}-{name}",
                "label": label_of(name, field).removesuffix(" m").replace("_", " "),
                "value": getattr(part, name),
                "sort": sort,
                "help": field.description or "",
                "unit": numeric_of(field).unit if sort == "number" else "",
                "choices": [(one, str(one).replace("_", " ").capitalize()) for one in choices],
            }
        )
    return found


def space_from(given: QueryDict, rate_hz: int) -> Space:
    """The space that a form describes. Raises InputError in one sentence."""
    count = sum(f"microphone{n}-title" in given for n in range(MOST_MICROPHONES))
    try:
        return Space(
            room=_read(Room(), "room", given, rate_hz),
            source=_read(Source(), "source", given, rate_hz),
            microphones=tuple(
                _read(Microphone(), f"microphone{n}", given, rate_hz) for n in range(max(count, 1))
            ),
        )
    except ValidationError as error:
        said = error.errors()[0]["msg"].removeprefix("Value error, ")
        raise InputError(f"{sentence_case(said).rstrip('.')}.") from None


def _read(part: Any, prefix: str, given: QueryDict, rate_hz: int) -> Any:
    values: dict[str, Any] = {}
    for name, field in type(part).model_fields.items():
        key = f"{prefix}-{name}"
        if field.annotation is bool:
            values[name] = key in given
        elif key in given and field.annotation is str:
            values[name] = str(given[key]).strip()[:60] or getattr(part, name)
        elif key in given:
            values[name] = read_value(part, name, given[key], rate_hz)
    return type(part).model_validate({**part.model_dump(), **values})


def _plan(space: Space) -> dict[str, Any]:
    """The room from above, its front at the top, in units of the drawing."""
    room = space.room
    scale = _PLAN / max(room.width_m, room.depth_m)
    left = (_PLAN - room.width_m * scale) / 2.0

    def at(place: np.ndarray) -> tuple[float, float]:
        return left + float(place[0]) * scale, (room.depth_m - float(place[1])) * scale

    corners = (tuple(round(value, 1) for value in at(one)) for one in room.corners_m)
    return {
        "outline": " ".join(f"{x},{y}" for x, y in corners),
        "movers": _movers(space, at),
        "high": round(room.depth_m * scale, 1),
        "scale": scale,
    }


def _section(space: Space) -> dict[str, Any]:
    """The room from its right side, its front at the left, in units of the drawing."""
    room = space.room
    scale = _PLAN / max(room.depth_m, room.height_m)

    def at(place: np.ndarray) -> tuple[float, float]:
        return (room.depth_m - float(place[1])) * scale, (room.height_m - float(place[2])) * scale

    return {
        "wide": round(room.depth_m * scale, 1),
        "high": round(room.height_m * scale, 1),
        "movers": _movers(space, at),
        "scale": scale,
    }


def _movers(
    space: Space, at: Callable[[np.ndarray], tuple[float, float]]
) -> list[dict[str, object]]:
    """What can be dragged in a drawing, and the fields that it sets."""
    found = [("source", "Source", "source-from_front_m", one) for one in space.sources_m]
    found += [
        (f"microphone{number}", one.title, f"microphone{number}-distance_m", space.middle_m(one))
        for number, one in enumerate(space.microphones[:MOST_MICROPHONES])
    ]
    return [
        {
            "title": title,
            "is_source": name == "source",
            "along": along,
            "up": f"{name}-height_m",
            "x": round(x, 1),
            "y": round(y, 1),
        }
        for name, title, along, place in found
        for x, y in [at(place)]
    ]


def _listed(one: SpaceResponse, user: User) -> dict[str, Any]:
    return {
        "row": one,
        "mine": one.user_id == user.pk,
        "form": _FORMS.get(one.channels, f"{one.channels} channels"),
        "command": {
            "kind": "add_bus",
            "name": one.title[:110],
            "layout": "0+2+0",
            "file": one.stored_as,
        },
    }


def simulate(request: HttpRequest, mix: Mix) -> SpaceSimulation:
    """Queue the space that a form describes."""
    space = space_from(request.POST, mix.sample_rate_hz)
    with transaction.atomic():
        row = SpaceSimulation.objects.create(
            mix=mix, user_id=request.user.pk, options=space.model_dump(mode="json")
        )
        simulate_space.defer(simulation_id=row.pk)
    return row


def bring(path: Path, name: str, user: User) -> SpaceResponse:
    """Take in a response from a file. Raises InputError in one sentence for what is none."""
    with tempfile.TemporaryDirectory(dir=path.parent) as folder:
        made = Path(folder) / f"{uuid.uuid4().hex}.flac"
        channels, frames, rate_hz = read_apart(as_flac, path, made, name, path=path, name=name)
        form_for(channels, name)
        response = SpaceResponse(
            user_id=int(user.pk or 0),
            title=Path(name).stem[:120],
            channels=channels,
            seconds=frames / rate_hz,
            sample_rate_hz=rate_hz,
            bytes=made.stat().st_size,
        )
        with reserving():
            require_own_space(user, response.bytes)
            keep(response.file, made.name, made)
            response.save()
    return response


def let_go(response: SpaceResponse, user: User) -> None:
    """Delete a response that no mix uses.

    Raises InputError where one does, by name where this person takes part in it.
    """
    using = response.used_by
    own = using.filter(strip__mix__members__user=user.pk).select_related("strip__mix").first()
    if own is not None:
        raise InputError(
            f"{own.strip.name} of {own.strip.mix.title} uses this response; choose another "
            "there first."
        )
    if using.exists():
        raise InputError(
            "A mix of somebody else uses this response, which was shared; it stays until that mix "
            "has another."
        )
    response.delete()
    discard(response.file)
