"""How fast Flow is served for a large mix.

128 tracks and 24 buses, in a database that is rolled back.
"""

import json
import statistics
import time
from collections.abc import Callable, Iterator

from bench.database import ready
from bench.edits import large_mix


def flow() -> Iterator[str]:
    ready()
    from django.conf import settings
    from django.db import transaction

    settings.ALLOWED_HOSTS = ["testserver"]
    with transaction.atomic():
        yield from _measured()
        transaction.set_rollback(True)


def _measured() -> Iterator[str]:
    from django.contrib.auth import get_user_model
    from django.test import Client
    from django.urls import reverse

    from metaphon.core.files.mixdoc import parse
    from metaphon.web.gc_freeze import freeze
    from metaphon.web.mixes.models import AudioFile, Member, Mix
    from metaphon.web.mixes.unpacking import unpack

    user = get_user_model().objects.create(username="bench of pages")
    mix = Mix.objects.create(title="Large")
    Member.objects.create(mix=mix, user=user, role="owner")
    audio = AudioFile.objects.create(
        mix=mix, name="a", file="none.wav", channels=1, frames=48000, source_rate_hz=48000
    )
    unpack(parse({**large_mix("none.wav"), "automation": []}), mix, lambda file: audio)
    client = Client()
    client.force_login(user)

    def address(name: str, *arguments: object) -> str:
        return reverse(name, args=[mix.pk, *arguments])

    flow_page = address("flow:show")
    pages: dict[str, Callable[[], object]] = {
        "map page": lambda: client.get(f"{flow_page}?view=map"),
        "map drawing": lambda: client.get(address("flow:map")),
        "table": lambda: client.get(f"{flow_page}?view=table"),
        "panel": lambda: client.get(address("flow:panel", "t0")),
        "panel of a bus": lambda: client.get(address("flow:panel", "b0")),
        "findings": lambda: client.get(address("findings:show")),
    }
    level = iter(range(1000))

    def edit(path: str, value: object) -> object:
        command = {"kind": "set", "strips": ["t0"], "path": path, "value": value}
        return client.post(address("flow:edit"), {"command": json.dumps(command)})

    edits: dict[str, Callable[[], object]] = {
        "gain edit": lambda: edit("gain_db", -next(level) / 10),
        "send edit": lambda: edit("sends/b1/level_db", -next(level) / 10),
        "mute edit": lambda: edit("muted", bool(next(level) % 2)),
    }
    for asked, cases in ((200, pages), (150, edits)):
        for name, ask in cases.items():
            ask()
            freeze()  # as the server has, once it is warm
            times = []
            for _ in range(7):
                began = time.perf_counter()
                response = ask()
                times.append((time.perf_counter() - began) * 1000.0)
                assert response.status_code == 200, name  # type: ignore[attr-defined]
            yield f"{name}: {statistics.median(times):.0f} ms (asked: under {asked})"
