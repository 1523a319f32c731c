"""How fast Flow is served for a large mix.

128 tracks and 24 buses, in a database that is rolled back.
"""

import json
import statistics
import time
from collections.abc import Callable, Iterator

from bench.database import rolled_back, stored
from bench.edits import large_mix


def flow() -> Iterator[str]:
    with rolled_back():
        yield from _measured()


def _measured() -> Iterator[str]:
    from django.urls import reverse

    from metaphon.core.files.mixdoc import parse
    from metaphon.web.gc_freeze import freeze

    mix, client = stored(parse({**large_mix("none.wav"), "automation": []}))

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
