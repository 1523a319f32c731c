"""Small sounds and mixes for tests."""

import json
import shutil
import struct
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np
import soundfile

from metaphon.core.document.handover import FileForm
from metaphon.core.document.targets import target_named
from metaphon.core.engine.making import Result, Run
from metaphon.core.engine.naming import Names
from metaphon.core.engine.offline import render_to_files
from metaphon.core.engine.plan import compile
from metaphon.core.engine.render import BLOCK_FRAMES, Output, render
from metaphon.core.files.mixdoc import parse, with_files

RATE_HZ = 48000


def noise(channels: int, seconds: float, seed: int = 1, level: float = 0.1) -> np.ndarray:
    """(channels, frames) of unrelated noise."""
    return np.random.default_rng(seed).standard_normal((channels, round(seconds * RATE_HZ))) * level


def sine(
    frequency_hz: float, seconds: float, peak_dbfs: float, rate_hz: int = RATE_HZ
) -> np.ndarray:
    t = np.arange(round(seconds * rate_hz)) / rate_hz
    return 10 ** (peak_dbfs / 20) * np.sin(2 * np.pi * frequency_hz * t)


def unpacked(data: bytes) -> tuple[dict[str, Any], np.ndarray]:
    """A stretch as it travels to a listener: its header and its samples, (channels, frames)."""
    (length,) = struct.unpack("<I", data[:4])
    header = json.loads(data[4 : 4 + length])
    return header, np.frombuffer(data[4 + length :], dtype="<f4").reshape(-1, header["channels"]).T


def outputs_of(*targets: str) -> list[Output]:
    return [Output(target_named(name)) for name in targets]


def files_of(mix: Any, folder: Path, *targets: str, **form: Any) -> list[Result]:
    """A mix rendered to files in a folder, written as a form says."""
    run = Run(compile(mix), outputs_of(*targets), whole=True)
    return render_to_files([run], folder, FileForm(**form), Names(mix.title))[0]


class FolderTest(unittest.TestCase):
    """A test with a folder of its own, and short ways to write sounds and render mixes in it."""

    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder, True)

    def write(self, name: str, sound: np.ndarray, rate_hz: int = RATE_HZ, **options: Any) -> Path:
        path = self.folder / name
        options.setdefault("subtype", "FLOAT" if name.endswith(".wav") else "PCM_24")
        soundfile.write(str(path), np.atleast_2d(sound).T, rate_hz, **options)
        return path

    def mix(self, tracks: list[dict], **rest: Any) -> Any:
        """A mix from plain dicts; "sound" of a track names its file in the folder."""
        made = []
        for number, track in enumerate(tracks):
            track = dict(track)
            track.setdefault("id", f"t{number}")
            track.setdefault("name", track["id"])
            if "sound" in track:
                track["clips"] = [
                    {"file": track.pop("sound"), "start_s": track.pop("start_s", 0.0)}
                ]
            made.append(track)
        document = {"format": "metaphon-mix", "title": "Test", "tracks": made, **rest}
        return with_files(parse(document), lambda file: self.folder / file)

    def rendered(
        self, mix: Any, target: str, block_frames: int = BLOCK_FRAMES, **span: Any
    ) -> np.ndarray:
        """One target of a mix, whole, as (channels, frames)."""
        plan = compile(mix)
        outputs = outputs_of(target)
        return np.concatenate(
            [b[0] for b in render(plan, outputs, block_frames=block_frames, **span)], axis=1
        )
