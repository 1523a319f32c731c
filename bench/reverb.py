"""What rooms cost: long responses against a general-purpose tool, a whole mix with rooms live."""

import shutil
import subprocess
import tempfile
import time
from collections.abc import Iterator
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import soundfile
from numpy.typing import NDArray

from bench.timing import best_in_turn, seconds
from metaphon.core.dsp.motion import PIECE
from metaphon.core.dsp.partitioned import LongConvolver, Responses, prepared
from metaphon.core.files.mixdoc import parse
from metaphon.core.listen.monitor import NOW, Monitor, MonitorSource
from metaphon.core.listen.session import Session
from metaphon.core.process.convolution_reverb import ConvolutionReverb
from metaphon.core.process.network_reverb import NetworkReverb

_RATE_HZ = 48000
_RESPONSE_S = 4.0
_SOUND_S = 120.0
_READ_AHEAD = 64 * PIECE
_STRETCH = 2048
_LIVE_S = 30.0
_LEAD_S = 0.12  # how far an engine works ahead of what is heard
_TRACKS = 24


def reverb() -> Iterator[str]:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        yield from _against_a_tool(folder)
        yield from _costs(folder)
        yield from _live(folder)


def _sounds(folder: Path) -> tuple[Path, Path]:
    """Noise, and a response of a room, both in stereo and floating point."""
    chance = np.random.default_rng(1)
    sound = chance.normal(0.0, 0.1, (round(_SOUND_S * _RATE_HZ), 2))
    count = round(_RESPONSE_S * _RATE_HZ)
    fall = 10.0 ** (-3.0 * np.arange(count) / _RATE_HZ / 2.5)
    response = chance.normal(0.0, 1.0, (count, 2)) * fall[:, None]
    paths = folder / "sound.wav", folder / "response.wav"
    for path, samples in zip(paths, (sound, response / np.sqrt(np.sum(response**2))), strict=True):
        soundfile.write(path, samples, _RATE_HZ, "FLOAT")
    return paths


def _against_a_tool(folder: Path) -> Iterator[str]:
    """Two minutes through four seconds in stereo; both read a file and keep nothing."""
    sound, response = _sounds(folder)
    if not shutil.which("ffmpeg"):
        yield "ffmpeg is not installed; apt-get install ffmpeg to compare with it"
        return
    taps, _ = soundfile.read(response, dtype="float32", always_2d=True)
    ways = np.zeros((2, 2, len(taps)), dtype=np.float32)
    ways[[0, 1], [0, 1]] = taps.T
    ready = prepared(np.eye(2), ways, 2)
    graph = "[0:a][1:a]afir=gtype=none:minp={0}:maxp=8192"
    for part, block in ((PIECE, PIECE), (8192, 16 * PIECE)):
        call = ["ffmpeg", "-v", "error", "-nostdin", "-i", str(sound), "-i", str(response)]
        call += ["-filter_complex", graph.format(part), "-f", "null", "-"]
        tool = partial(subprocess.run, call, check=True)
        ours, theirs = best_in_turn(partial(_convolve, sound, ready, block), tool)
        yield (
            f"{_RESPONSE_S:.0f} s response in stereo, at once from blocks of {block}: "
            f"{theirs / ours:.2f} x afir in parts from {part} up "
            f"({_SOUND_S / ours:.0f} x real time; asked: 1)"
        )


def _convolve(path: Path, ready: Responses, block: int) -> None:
    convolver = LongConvolver(ready, np.zeros((2, 0), dtype=np.float32), 0)
    with soundfile.SoundFile(str(path)) as file:
        while len(sound := file.read(_READ_AHEAD, dtype="float32", always_2d=True)):
            sound = np.ascontiguousarray(sound[: len(sound) // block * block].T)
            for first in range(0, sound.shape[1], block):
                convolver.process(sound[:, first : first + block])


def _costs(folder: Path) -> Iterator[str]:
    """Each reverb alone, in percent of a core."""
    sound: NDArray[np.float32] = np.random.default_rng(1).normal(0.0, 0.1, (2, 20 * PIECE * 47))
    sound = sound.astype(np.float32)
    rooms: dict[str, Any] = {
        "network reverb": NetworkReverb(),
        "network reverb, early reflections and sway": NetworkReverb(early=0.4, sway_ms=0.2),
        f"convolution reverb, {_RESPONSE_S:.0f} s": ConvolutionReverb(file=folder / "response.wav"),
    }
    for name, room in rooms.items():
        room.apply(sound[:, : 64 * PIECE], _RATE_HZ)
        took = min(seconds(partial(room.apply, sound, _RATE_HZ)) for _ in range(3))
        yield f"{name}, stereo: {100.0 * took * _RATE_HZ / sound.shape[1]:.1f} % of a core"


def _live(folder: Path) -> Iterator[str]:
    """Two network reverbs, two long responses and 24 tracks, as a listener hears them."""
    soundfile.write(
        folder / "track.wav",
        np.random.default_rng(3).normal(0.0, 0.05, round((_LIVE_S + 5.0) * _RATE_HZ)),
        _RATE_HZ,
        "PCM_24",
    )
    rooms = ("net_one", "net_two", "long_one", "long_two")
    file = str(folder / "response.wav")
    chains: list[dict[str, Any]] = [
        {"kind": "network_reverb", "early": 0.3},
        {"kind": "network_reverb", "decay_s": 3.0, "bass_decay": 1.4},
        {"kind": "convolution_reverb", "file": file},
        {"kind": "convolution_reverb", "file": file, "distance": 0.7},
    ]
    buses = [
        {"id": room, "name": room, "layout": "0+2+0", "chain": [chain]}
        for room, chain in zip(rooms, chains, strict=True)
    ]
    tracks = [
        {
            "id": f"t{n}",
            "name": f"T{n}",
            "clips": [{"file": str(folder / "track.wav")}],
            "chain": [{"kind": "eq", "bands": [{"gain_db": 3.0}, {"frequency_hz": 4000.0}]}],
            "sends": [{"bus": room} for room in rooms],
        }
        for n in range(_TRACKS)
    ]
    mix = parse({"format": "metaphon-mix", "title": "Rooms", "tracks": tracks, "buses": buses})
    session = Session(_RATE_HZ)
    session.set_document(NOW, mix)
    session.set_monitor(Monitor())
    session.hear("a", MonitorSource(target="0+2+0"))
    for _ in range(40):
        session.take(_STRETCH)
    behind_s = worst_s = worked_s = 0.0
    gaps, stretches = 0, round(_LIVE_S * _RATE_HZ / _STRETCH)
    for _ in range(stretches):
        began = time.perf_counter()
        session.take(_STRETCH)
        took = time.perf_counter() - began
        worked_s += took
        behind_s = max(behind_s + took - _STRETCH / _RATE_HZ, 0.0)
        worst_s = max(worst_s, behind_s)
        gaps += behind_s > _LEAD_S
    session.close()
    yield (
        f"two network reverbs, two {_RESPONSE_S:.0f} s responses, {_TRACKS} tracks live: "
        f"{gaps} gaps in {_LIVE_S:.0f} s (asked: 0), {100.0 * worked_s / _LIVE_S:.0f} % of a "
        f"core, at most {1000.0 * worst_s:.0f} of {1000.0 * _LEAD_S:.0f} ms behind"
    )
