"""Many moving objects.

To loudspeakers and headphones at once, and against a plain convolution of the same length.
"""

import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import soundfile
from scipy.signal import oaconvolve

from metaphon.core.document.handover import Handover
from metaphon.core.engine.naming import Names
from metaphon.core.engine.offline import render_to_files, runs_of
from metaphon.core.files.mixdoc import parse

_OBJECTS, _LENGTH_S, _RATE_HZ = 118, 20, 48000


def field() -> Iterator[str]:
    """118 moving objects to 4+7+0 and binaural at once."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        random = np.random.default_rng(3)
        sound = (random.standard_normal(_LENGTH_S * _RATE_HZ) * 0.01).astype(np.float32)
        soundfile.write(str(folder / "a.wav"), sound, _RATE_HZ, subtype="PCM_24")
        tracks = [
            {
                "id": f"o{i}",
                "name": f"Object {i}",
                "clips": [{"file": folder / "a.wav"}],
                "placement": {"mode": "object"},
            }
            for i in range(_OBJECTS)
        ]
        lanes = []
        for i in range(_OBJECTS):
            start, speed, high = (
                random.uniform(-180, 180),
                random.uniform(10, 60),
                random.uniform(-30, 80),
            )
            turns = [(start + speed * t + 180) % 360 - 180 for t in range(_LENGTH_S)]
            points = [{"t_s": float(t), "value": a} for t, a in enumerate(turns)]
            lanes.append({"target": f"o{i}/placement/azimuth_deg", "points": points})
            heights = [
                {"t_s": 0.0, "value": high, "curve": "smooth"},
                {"t_s": float(_LENGTH_S), "value": -high / 2},
            ]
            lanes.append({"target": f"o{i}/placement/elevation_deg", "points": heights})
        mix = parse(
            {"format": "metaphon-mix", "title": "Many", "tracks": tracks, "automation": lanes},
            "Many",
        )

        def rendered(*targets: str) -> float:
            asked = Handover(targets=targets)
            began = time.perf_counter()
            render_to_files(runs_of(mix, asked), folder / "out", asked, Names(mix.title))
            return time.perf_counter() - began

        rendered("0+2+0", "binaural")  # warm
        response = random.standard_normal(512).astype(np.float32)
        began = time.perf_counter()
        for _ in range(2 * _OBJECTS):
            oaconvolve(sound, response)
        plain = time.perf_counter() - began
        for targets in (("4+7+0",), ("binaural",), ("4+7+0", "binaural")):
            took = rendered(*targets)
            asked = " (asked: 3)" if len(targets) == 2 else ""
            yield (
                f"118 moving objects to {' and '.join(targets)}: {_LENGTH_S / took:.1f} x "
                f"real time{asked}, "
                f"{took / plain:.2f} of plain convolution of as many ears that stand still"
            )
