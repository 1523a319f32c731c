"""Imported once by the process that listening sessions are forked from.

So that each begins at once.
"""

import tempfile
from pathlib import Path

import numpy as np
import soundfile

from metaphon.core.files.mixdoc import parse, with_files
from metaphon.core.listen import serving as serving
from metaphon.core.listen.monitor import NOW, Monitor, MonitorSource
from metaphon.core.listen.session import Session

_RATE_HZ = 48000


def _play_something() -> None:
    """A few stretches through what is slow the first time.

    Compiled loops, the measured head, the meters.
    """
    with tempfile.TemporaryDirectory() as folder:
        soundfile.write(f"{folder}/click.wav", np.eye(1, 9600)[0], _RATE_HZ)
        track = {
            "id": "a",
            "name": "A",
            "clips": [{"file": "click.wav"}],
            "placement": {"mode": "object"},
            "chain": [
                {"kind": "network_reverb", "decay_s": 0.1},
                {"kind": "basics", "low_cut": True, "delay_ms": 1.23},
            ],
        }
        lanes = [
            {
                "target": f"a/{moved}",
                "points": [{"t_s": 0, "value": low}, {"t_s": 1, "value": high}],
            }
            for moved, low, high in (
                ("placement/azimuth_deg", 0, 90),
                ("chain/1/low_cut_hz", 20, 40),
                ("chain/0/size", 1.0, 1.1),
            )
        ]
        mix = parse(
            {"format": "metaphon-mix", "title": "Warm", "tracks": [track], "automation": lanes}
        )
        session = Session(_RATE_HZ)
        session.set_document(NOW, with_files(mix, lambda file: Path(folder) / file))
        session.set_monitor(Monitor(through="binaural"))
        for target in ("0+5+0", "binaural"):
            session.hear("a", MonitorSource(target=target))
            session.take(2048)
        session.close()


_play_something()
