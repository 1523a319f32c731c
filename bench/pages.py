"""How fast Flow is served for a large mix: 128 tracks and 24 buses, in a database that is rolled back."""

import statistics
import time
from collections.abc import Callable, Iterator

from bench.database import ready

TRACKS, BUSES = 128, 24


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

    from metaphon.web.gc_freeze import freeze
    from metaphon.web.mixes.models import AudioFile, Clip, Member, Mix, Placement, Processor, Send, Strip

    user = get_user_model().objects.create(username="bench of pages")
    mix = Mix.objects.create(title="Large")
    Member.objects.create(mix=mix, user=user, role="owner")
    audio = AudioFile.objects.create(mix=mix, name="a", file="none.wav", channels=1, frames=48000, source_rate_hz=48000)
    buses = [
        Strip.objects.create(mix=mix, kind="bus", ref=f"b{i}", name=f"Bus {i}", layout="0+5+0", position=i)
        for i in range(BUSES)
    ]
    tracks = [
        Strip.objects.create(
            mix=mix, kind="track", ref=f"t{i}", name=f"Track {i}", position=i,
            to_programme=i % 2 == 0, output_bus=None if i % 2 == 0 else buses[i % BUSES],
        )
        for i in range(TRACKS)
    ]  # fmt: skip
    Placement.objects.bulk_create(Placement(strip=strip, mode="object") for strip in (*tracks, *buses))
    Clip.objects.bulk_create(Clip(track=track, audio=audio) for track in tracks)
    Send.objects.bulk_create(
        Send(source=track, bus=buses[(i + k) % BUSES]) for i, track in enumerate(tracks) for k in (1, 2)
    )
    Processor.objects.bulk_create(Processor(strip=strip, kind="basics") for strip in (*tracks, *buses))
    client = Client()
    client.force_login(user)

    def address(name: str, *arguments: object) -> str:
        return reverse(name, args=[mix.pk, *arguments])

    flow_page = address("flow:show")
    first = tracks[0].pk
    pages: dict[str, Callable[[], object]] = {
        "map page": lambda: client.get(f"{flow_page}?view=map"),
        "map drawing": lambda: client.get(address("flow:map")),
        "table": lambda: client.get(f"{flow_page}?view=table"),
        "panel": lambda: client.get(address("flow:panel", first)),
        "panel of a bus": lambda: client.get(address("flow:panel", buses[0].pk)),
        "findings": lambda: client.get(address("findings:show")),
    }
    level = iter(range(1000))
    edits: dict[str, Callable[[], object]] = {
        "gain edit": lambda: client.post(address("flow:set", first, "gain_db"), {"gain_db": f"-{next(level) / 10}"}),
        "send edit": lambda: client.post(
            address("flow:set_send", first, buses[1].pk), {"level_db": f"-{next(level) / 10}"}
        ),
        "mute edit": lambda: client.post(
            address("flow:set", first, "muted"), {"muted": ("on", "off")[next(level) % 2]}
        ),
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
