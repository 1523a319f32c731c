"""How soon a pair of one-hour recordings is drawn and analysed, after the first look."""

import shutil
import statistics
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import soundfile

from bench.database import rolled_back, stored

_RATE_HZ, _MINUTES = 48000, 60
_ROUNDS = 5


def coherence() -> Iterator[str]:
    """The fragment of a pair at several zooms, with another mend; phase, equaliser, width."""
    with rolled_back():
        yield from _measured()


def _measured() -> Iterator[str]:
    from django.conf import settings
    from django.urls import reverse

    from metaphon.core.files.mixdoc import parse

    folder = Path(settings.MEDIA_ROOT) / "scratch" / "bench-coherence"
    folder.mkdir(parents=True, exist_ok=True)
    try:
        near, far = _recordings(folder)
        clips = {"near": near, "far": far}
        chain = [{"kind": "eq", "bands": [{"gain_db": 6.0}], "phase": "linear"}]
        tracks = [
            {"id": name, "name": name, "clips": [{"file": str(path)}], "chain": chain}
            for name, path in clips.items()
        ]
        mix, client = stored(parse({"format": "metaphon-mix", "title": "Hour", "tracks": tracks}))
        _named(mix, clips)
        pair = reverse("coherence:pair", args=[mix.pk])
        page = reverse("coherence:show", args=[mix.pk])
        asked = {
            "a pair of an hour, 50 ms shown": (pair, {}),
            "an hour shown": (pair, {"width_s": "3600", "at_s": "0"}),
            "a minute shown": (pair, {"width_s": "30", "at_s": "1800"}),
            "another mend": (pair, {"delay_ms": "-1"}),
            "phase of a linear equaliser": (page, {"view": "phase", "strip": "near"}),
            "an equaliser, large": (page, {"view": "equaliser", "strip": "near"}),
            "width before and after a chain": (page, {"view": "width", "strip": "near"}),
        }
        for name, (address, query) in asked.items():
            given = {"first": "near", "other": "far", **query}
            times = []
            for _ in range(_ROUNDS + 1):
                began = time.perf_counter()
                answer = client.get(address, given, headers={"HX-Request": "true"})
                times.append((time.perf_counter() - began) * 1000.0)
                assert answer.status_code == 200, answer.content[:300]
            yield (
                f"{name}: {statistics.median(times[1:]):.0f} ms, first {times[0]:.0f} "
                "(asked: 500 after the first)"
            )
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def _recordings(folder: Path) -> tuple[Path, Path]:
    """One sound of an hour, and the same a little later and turned over."""
    minute = np.random.default_rng(1).normal(0.0, 0.1, 60 * _RATE_HZ).astype(np.float32)
    paths = folder / "near.wav", folder / "far.wav"
    for path, sound in zip(paths, (minute, -np.roll(minute, 96)), strict=True):
        with soundfile.SoundFile(str(path), "w", _RATE_HZ, 1, "PCM_24") as file:
            for number in range(_MINUTES):
                file.write(sound * (0.2 + 0.8 * (number % 7) / 6))
    return paths


def _named(mix: object, clips: dict[str, Path]) -> None:
    """Give each track's clip a recording of its own, with its peaks."""
    from django.conf import settings

    from metaphon.web.mixes import snapshots
    from metaphon.web.mixes.models import AudioFile, Clip
    from metaphon.web.mixes.recordings import draw

    for name, path in clips.items():
        audio = AudioFile.objects.create(
            mix=mix,
            name=path.name,
            file=str(path.relative_to(settings.MEDIA_ROOT)),
            channels=1,
            frames=_MINUTES * 60 * _RATE_HZ,
            source_rate_hz=_RATE_HZ,
        )
        draw(audio)
        Clip.objects.filter(track__mix=mix, track__ref=name).update(audio=audio)
    snapshots.forget()
