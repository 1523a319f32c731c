"""Simulated spaces: made beside the web server, their responses kept for any mix."""

import tempfile
import uuid
from pathlib import Path

from django.db import transaction

from metaphon.core.engine.offline import Progress
from metaphon.core.errors import InputError
from metaphon.core.files.apart import MEMORY_BYTES, TooMuch, work_apart
from metaphon.core.spaces.response_files import write_flac
from metaphon.core.spaces.space import Space
from metaphon.web.jobs.models import SpaceSimulation
from metaphon.web.jobs.progress import Interrupted, Teller
from metaphon.web.mixes.models import SpaceResponse
from metaphon.web.mixes.recordings import keep
from metaphon.web.mixes.space import require_own_space
from metaphon.web.storage import scratch

_SECONDS = 1800.0


def run(row: SpaceSimulation) -> None:
    """Simulate a space. Raises Interrupted, or InputError in one sentence."""
    from metaphon.core.spaces.simulation import simulated  # slow to import, and seldom needed

    space = Space.model_validate(row.options)
    SpaceSimulation.objects.filter(pk=row.pk, status=SpaceSimulation.Status.WAITING).update(
        status=SpaceSimulation.Status.RUNNING
    )
    teller = Teller(row)
    rate_hz = row.mix.sample_rate_hz
    try:
        found = work_apart(
            simulated,
            space,
            rate_hz,
            limits=(MEMORY_BYTES, _SECONDS),
            progress=lambda done: teller(Progress(done, 0.0)),
        )
    except TooMuch:
        raise InputError(
            "This space takes too long; make it smaller, or its surfaces less hard."
        ) from None
    with tempfile.TemporaryDirectory(dir=scratch()) as folder, transaction.atomic():
        if not SpaceSimulation.objects.filter(
            pk=row.pk, status=SpaceSimulation.Status.RUNNING
        ).update(status=SpaceSimulation.Status.DONE, progress=1.0):
            raise Interrupted
        for number, (microphone, sound) in enumerate(zip(space.microphones, found, strict=True)):
            others = (one for n, one in enumerate(space.microphones) if n != number)
            own_first = space.model_copy(update={"microphones": (microphone, *others)})
            path = Path(folder) / f"{uuid.uuid4().hex}.flac"
            write_flac(path, sound, rate_hz)
            response = SpaceResponse(
                user_id=row.user_id,
                title=space.room.title,
                microphone=f"{microphone.title}, {microphone.distance_m:g} m"[:60],
                channels=len(sound),
                seconds=sound.shape[1] / rate_hz,
                sample_rate_hz=rate_hz,
                space=own_first.model_dump(mode="json"),
                bytes=path.stat().st_size,
            )
            if row.user is not None:
                require_own_space(row.user, response.bytes)
            keep(response.file, path.name, path)
            response.save()
