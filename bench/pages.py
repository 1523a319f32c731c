"""How fast pages are served where much is kept, and how large they are.

A mix of 128 tracks, 24 buses and 5,000 edits, among 500 mixes, in a database that is rolled back.
"""

import gzip
import json
import statistics
import time
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING

from bench.database import rolled_back, stored
from bench.edits import large_mix

if TYPE_CHECKING:
    from metaphon.web.mixes.models import Mix

MIXES, EDITS = 500, 5000
_ROUNDS = 7
_PAGE_MS, _PAGE_KB, _EDIT_MS = 200, 300, 150


def pages() -> Iterator[str]:
    """Every page of a workspace, the list of mixes and the history; and what an edit takes."""
    with rolled_back():
        yield from _measured()


def _measured() -> Iterator[str]:
    from django.urls import reverse

    from metaphon.core.files.mixdoc import parse
    from metaphon.web.gc_freeze import freeze

    mix, client = stored(parse({**large_mix("none.wav"), "automation": []}))
    _crowd(mix)

    def page(name: str, *arguments: object, query: str = "") -> Callable[[], object]:
        address = reverse(name, args=[mix.pk, *arguments]) + query
        return lambda: client.get(
            address, headers={"HX-Request": "true", "Accept-Encoding": "gzip"}
        )

    pages: dict[str, Callable[[], object]] = {
        f"{MIXES} mixes": lambda: client.get(reverse("mixes")),
        "intake": page("intake:show"),
        "flow's map": page("flow:show", query="?view=map"),
        "its drawing": page("flow:map"),
        "flow's table": page("flow:show", query="?view=table"),
        "panel of a track": page("flow:panel", "t0"),
        "panel of a bus": page("flow:panel", "b0"),
        "field": page("field:show"),
        "listen": page("listen:show"),
        "what can be heard": page("listen:sources"),
        "handover": page("handover:show"),
        "findings": page("findings:show"),
        "places": page("places"),
        f"history of {EDITS}": page("history"),
    }
    level = iter(range(1000))

    def edit(path: str, value: object) -> object:
        command = {"kind": "set", "strips": ["t0"], "path": path, "value": value}
        return client.post(reverse("flow:edit", args=[mix.pk]), {"command": json.dumps(command)})

    edits: dict[str, Callable[[], object]] = {
        "gain edit": lambda: edit("gain_db", -next(level) / 10),
        "send edit": lambda: edit("sends/b1/level_db", -next(level) / 10),
        "mute edit": lambda: edit("muted", bool(next(level) % 2)),
    }
    for most_ms, cases in ((_PAGE_MS, pages), (_EDIT_MS, edits)):
        for name, ask in cases.items():
            ask()
            freeze()  # as the server has, once it is warm
            times = []
            for _ in range(_ROUNDS):
                began = time.perf_counter()
                response = ask()
                times.append((time.perf_counter() - began) * 1000.0)
                assert response.status_code == 200, name  # type: ignore[attr-defined]
            sent = response.content  # type: ignore[attr-defined]
            whole = gzip.decompress(sent) if sent[:2] == b"\x1f\x8b" else sent
            yield (
                f"{name}: {statistics.median(times):.0f} ms, {len(whole) / 1000:.0f} kB, "
                f"{len(sent) / 1000:.0f} on the wire (asked: {most_ms} ms, {_PAGE_KB} kB)"
            )


def _crowd(mix: "Mix") -> None:
    """Give the mix a long history and its owner many more mixes."""
    from metaphon.core.document.difference import Change
    from metaphon.web.mixes.models import JournalEntry, Member, Mix

    user = mix.members.get().user
    others = Mix.objects.bulk_create(
        Mix(title=f"Mix {n}", values=mix.values) for n in range(MIXES - 1)
    )
    Member.objects.bulk_create(Member(mix=other, user=user, role="owner") for other in others)
    entries = [
        JournalEntry(
            mix=mix,
            user=user,
            revision=n,
            what=f"Gain of Track 0 {n % 60 / 10} dB",
            changes=[Change(("tracks", "t0", "gain_db"), (n - 1) % 60 / 10, n % 60 / 10).plain()],
        )
        for n in range(mix.revision + 1, EDITS + 1)
    ]
    last = JournalEntry.objects.bulk_create(entries, batch_size=1000)[-1]
    Mix.objects.filter(pk=mix.pk).update(revision=last.revision, state=last.pk)
    strip = mix.strips.get(ref="t0")
    strip.values["gain_db"] = EDITS % 60 / 10
    strip.save()
    mix.refresh_from_db()
