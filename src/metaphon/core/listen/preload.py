"""Imported once by the process that listening sessions are forked from.

So that each begins at once, and disturbs nobody who listens already.
"""

import tempfile
from pathlib import Path
from typing import Any

import numpy as np
import soundfile

from metaphon.core.files.mixdoc import parse, with_files
from metaphon.core.listen import serving as serving
from metaphon.core.listen.monitor import NOW, Monitor, MonitorSource
from metaphon.core.listen.session import Session
from metaphon.core.spaces.shipped import SPACES

_RATE_HZ = 48000
_STRETCHES = 16  # of 2048 frames: until a long response is worked on in long parts
_BASICS = {"kind": "basics", "low_cut": True, "delay_ms": 1.23}
_NETWORK = {"kind": "network_reverb", "decay_s": 0.1}
_TRACKS: tuple[tuple[int, dict[str, Any], list[dict[str, Any]]], ...] = (
    (1, {"mode": "object"}, [_NETWORK, _BASICS]),
    (1, {"mode": "object", "extent_deg": 30.0, "diffuseness": 0.3}, []),
    (1, {"mode": "object", "extent_deg": 20.0}, [{"kind": "eq", "bands": [{"gain_db": 3.0}]}]),
    (2, {"mode": "bed"}, [_NETWORK, _BASICS]),
    *((count, {"mode": "scene"}, []) for count in (4, 9, 16)),
)
_MOVED = (
    ("t0/placement/azimuth_deg", 0.0, 90.0),
    ("t0/chain/1/low_cut_hz", 20.0, 40.0),
    ("t0/chain/0/size", 1.0, 1.1),
    ("t1/placement/azimuth_deg", 0.0, 90.0),
)


def _play_something() -> None:
    """A few stretches through what is slow the first time.

    Compiled loops, the measured head, the meters.
    """
    room = {"kind": "convolution_reverb", "file": str(SPACES[0].file("ambisonic", "far"))}
    with tempfile.TemporaryDirectory() as folder:
        tracks = []
        for number, (channels, placement, chain) in enumerate(_TRACKS):
            click = np.eye(1, _RATE_HZ)[0, :, None] * np.ones(channels)
            soundfile.write(f"{folder}/{channels}.wav", click, _RATE_HZ)
            tracks.append(
                {
                    "id": f"t{number}",
                    "name": "A",
                    "clips": [{"file": f"{channels}.wav"}],
                    "placement": placement,
                    "chain": chain,
                    "sends": [{"bus": "room"}],
                }
            )
        lanes = [
            {
                "target": target,
                "points": [{"t_s": 0, "value": low}, {"t_s": 1, "value": high}],
            }
            for target, low, high in _MOVED
        ]
        mix = parse(
            {
                "format": "metaphon-mix",
                "title": "Warm",
                "tracks": tracks,
                "buses": [{"id": "room", "name": "Room", "chain": [room]}],
                "automation": lanes,
            }
        )
        session = Session(_RATE_HZ)
        session.set_document(NOW, with_files(mix, lambda file: Path(folder) / file))
        session.set_monitor(Monitor(through="binaural"))
        for target in ("0+2+0", "4+7+0", "binaural"):
            session.hear("a", MonitorSource(target=target))
            for _ in range(_STRETCHES):
                session.take(2048)
        session.close()


_play_something()
