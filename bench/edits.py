"""How soon an edit of a large mix is kept and answered.

128 tracks, 24 buses, 24 lanes of 4,000 points.
"""

import json
import statistics
import time
from collections.abc import Iterator
from typing import Any

import numpy as np

from bench.database import rolled_back, stored

TRACKS, BUSES, LANES, POINTS = 128, 24, 24, 4000
_ROUNDS = 21


def large_mix(file: str) -> dict[str, Any]:
    """The mix as a document; every other track goes through a bus, each sends to two."""
    times = np.linspace(0.0, 600.0, POINTS).round(3)
    lanes = [
        {
            "target": f"t{n}/placement/azimuth_deg",
            "points": [
                {"t_s": t, "value": v}
                for t, v in zip(times.tolist(), _swing(times, n), strict=True)
            ],
        }
        for n in range(LANES)
    ]
    tracks = [
        {
            "id": f"t{n}",
            "name": f"Track {n}",
            "clips": [{"file": file}],
            "chain": [{"kind": "basics"}],
            "output": "programme" if n % 2 == 0 else f"b{n % BUSES}",
            "placement": {"mode": "object"},
            "sends": [{"bus": f"b{(n + k) % BUSES}"} for k in (1, 2)],
        }
        for n in range(TRACKS)
    ]
    buses = [
        {"id": f"b{n}", "name": f"Bus {n}", "layout": "0+5+0", "chain": [{"kind": "basics"}]}
        for n in range(BUSES)
    ]
    return {
        "format": "metaphon-mix",
        "title": "Large",
        "tracks": tracks,
        "buses": buses,
        "automation": lanes,
    }


def _swing(times: np.ndarray, number: int) -> list[float]:
    return [round(float(v), 2) for v in 150.0 * np.sin(times / (5.0 + number))]


def edits() -> Iterator[str]:
    """A gain edit and a lane edit, from the request to its answer; and reading the whole mix."""
    with rolled_back():
        yield from _measured()


def _measured() -> Iterator[str]:
    from django.urls import reverse

    from metaphon.core.files.mixdoc import parse
    from metaphon.web.gc_freeze import freeze
    from metaphon.web.mixes import snapshots

    data = large_mix("none.wav")
    began = time.perf_counter()
    document = parse(data)
    yield f"a document of this mix is read in {_ms(began):.0f} ms"
    mix, client = stored(document)
    snapshots.forget()
    began = time.perf_counter()
    snapshots.document_of(mix)
    yield f"its rows are read in {_ms(began):.0f} ms, once a process"
    freeze()

    def sent(workspace: str, **command: object) -> float:
        began = time.perf_counter()
        posted = {"command": json.dumps(command)}
        answer = client.post(
            reverse(f"{workspace}:edit", args=[mix.pk]), posted, headers={"HX-Request": "true"}
        )
        assert answer.status_code == 200, answer.content
        return _ms(began)

    gain = [
        sent("flow", kind="set", strips=["t3"], path="gain_db", value=-n / 10)
        for n in range(1, _ROUNDS)
    ]
    lane = [
        sent(
            "field",
            kind="set_breakpoint",
            strip="t6",
            path="placement/azimuth_deg",
            place=2000,
            t_s=300.1,
            value=float(n),
        )
        for n in range(1, _ROUNDS)
    ]
    undone = []
    for _ in range(6):
        began = time.perf_counter()
        client.post(reverse("undo", args=[mix.pk]), headers={"HX-Request": "true"})
        undone.append(_ms(began))
    yield (
        f"a gain edit: {statistics.median(gain):.0f} ms from request to answer "
        f"(asked: 60), most {max(gain):.0f}"
    )
    yield (
        f"an edit of a lane of 4,000 points: {statistics.median(lane):.0f} ms "
        f"(asked: 100), most {max(lane):.0f}"
    )
    yield f"undo of it: {statistics.median(undone):.0f} ms"


def _ms(began: float) -> float:
    return (time.perf_counter() - began) * 1000.0
