"""Renders and measures against a general-purpose tool in the same run, best of three in turn.

The tool is ffmpeg from Debian's packages; where it is not installed the case says so.
"""

import contextlib
import io
import json
import shutil
import subprocess
import tempfile
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import soundfile

from bench.timing import best_in_turn
from metaphon.cli import main
from metaphon.core.document.handover import Handover
from metaphon.core.engine.naming import Names
from metaphon.core.engine.offline import render_to_files, runs_of
from metaphon.core.files.mixdoc import read
from metaphon.core.spatial.head import SHIPPED

_SECONDS = 40
_RATE_HZ = 48000
_TRACKS = 23
_FOUR = ("0+2+0", "0+5+0", "4+7+0", "binaural")


def speed() -> Iterator[str]:
    """The rows that are watched."""
    if not shutil.which("ffmpeg"):
        yield "ffmpeg is not installed; apt-get install ffmpeg to compare with it"
        return
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        _write_sounds(folder)
        plain = _written(folder, "plain", _plain_tracks())
        bench = _written(folder, "bench", _bench_mix())
        eight = _written(folder, "eight", _eight_channels())
        filtered = _ffmpeg_filtered(folder)
        rows: tuple[tuple[str, Callable[[], None], list[str], float | None], ...] = (
            ("23 filtered tracks to stereo", _rendered(plain, folder, ("0+2+0",)), filtered, 3.0),
            (
                "bench mix to four targets, over 23 filtered tracks",
                _rendered(bench, folder, _FOUR),
                filtered,
                1.5,
            ),
            (
                "the same by the command, with findings, fold-downs, checksums and a report",
                _commanded("render", bench, "--out", folder / "out", "--targets", ",".join(_FOUR)),
                filtered,
                None,
            ),
            (
                "8 channels on headphones",
                _rendered(eight, folder, ("binaural",)),
                _ffmpeg_headphones(folder),
                2.0,
            ),
            (
                "loudness and true peak of 8 channels",
                _commanded("measure", folder / "eight.wav", "--layout", "0+7+0"),
                _ffmpeg_loudness(folder),
                3.0,
            ),
        )
        for title, ours, theirs, asked in rows:
            own, other = best_in_turn(ours, partial(_run, theirs))
            took = f"{own:.2f} s against {other:.2f} s"
            yield f"{title}: {other / own:.2f} x ({took}{f'; asked: {asked} x' if asked else ''})"


def _rendered(mix: Path, folder: Path, targets: tuple[str, ...]) -> Callable[[], None]:
    """A mix rendered, written as 24 bit and measured, which is what the other tool does."""

    def made() -> None:
        document, asked = read(mix), Handover(targets=targets)
        runs = runs_of(document, asked)
        render_to_files(runs, folder / "out", asked, Names(document.title))

    return made


def _commanded(*arguments: Any) -> Callable[[], None]:
    """One command of ours, in this process, so that start-up is not counted."""

    def done() -> None:
        with contextlib.redirect_stdout(io.StringIO()):
            if main([str(one) for one in arguments]):
                raise RuntimeError(f"metaphon {arguments[0]} failed")

    return done


def _run(command: list[str]) -> None:
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)


def _write_sounds(folder: Path) -> None:
    random = np.random.default_rng(5)
    for name, channels in (
        *((f"t{i}", 1) for i in range(_TRACKS)),
        *((f"s{i}", 2) for i in range(9)),
        ("five", 6),
        ("eight", 8),
    ):
        sound = random.normal(0.0, 0.03, (_SECONDS * _RATE_HZ, channels))
        soundfile.write(str(folder / f"{name}.wav"), sound, _RATE_HZ, subtype="PCM_24")


def _written(folder: Path, name: str, document: dict[str, Any]) -> Path:
    path = folder / f"{name}.mix.json"
    path.write_text(json.dumps({"format": "metaphon-mix", "title": name, **document}))
    return path


def _track(name: str, sound: str, **more: Any) -> dict[str, Any]:
    return {"id": name, "name": name, "clips": [{"file": f"{sound}.wav"}], **more}


def _plain_tracks() -> dict[str, Any]:
    bands = [
        {"shape": "low_cut", "frequency_hz": 80.0, "slope_db": "12"},
        {"shape": "bell", "frequency_hz": 1000.0, "gain_db": 3.0, "q": 1.0},
        {"shape": "high_shelf", "frequency_hz": 8000.0, "gain_db": 2.0},
    ]
    tracks = [
        _track(f"t{i}", f"t{i}", chain=[{"kind": "eq", "bands": bands}], gain_db=-12.0)
        for i in range(_TRACKS)
    ]
    return {"tracks": tracks}


def _bench_mix() -> dict[str, Any]:
    def chain() -> list[dict[str, Any]]:
        bands = [{"frequency_hz": f, "gain_db": 2.0} for f in (200.0, 1000.0, 5000.0)]
        return [{"kind": "basics", "low_cut": True}, {"kind": "eq", "bands": bands}]

    sends = [{"bus": "hall", "level_db": -12.0}, {"bus": "cave", "level_db": -15.0}]
    objects = [
        _track(f"o{i}", f"t{i}", chain=chain(), sends=sends, placement={"mode": "object"})
        for i in range(14)
    ]
    beds = [
        _track(f"b{i}", f"s{i}", chain=chain(), output="one" if i < 5 else "two") for i in range(9)
    ]
    wide = _track("w", "five", chain=chain(), placement={"mode": "bed", "layout": "0+5+0"})
    bed = {"mode": "bed", "layout": "0+5+0"}
    buses = [
        {"id": name, "name": name, "layout": "0+5+0", "placement": bed, "chain": processors}
        for name, processors in (
            ("one", chain()),
            ("two", chain()),
            ("hall", [{"kind": "network_reverb", "decay_s": 2.5}]),
            ("cave", [{"kind": "network_reverb", "decay_s": 4.0, "size": 1.6}]),
        )
    ]
    moves = [
        {
            "target": f"o{i}/placement/azimuth_deg",
            "points": [
                {"t_s": float(t), "value": float((25 * i + 40 * t) % 360 - 180)} for t in range(41)
            ],
        }
        for i in range(14)
    ]
    return {"tracks": [*objects, *beds, wide], "buses": buses, "automation": moves}


def _eight_channels() -> dict[str, Any]:
    return {"tracks": [_track("e", "eight", placement={"mode": "bed", "layout": "0+7+0"})]}


def _ffmpeg_filtered(folder: Path) -> list[str]:
    inputs = [part for i in range(_TRACKS) for part in ("-i", str(folder / f"t{i}.wav"))]
    chain = "highpass=f=80,equalizer=f=1000:width_type=q:w=1:g=3,highshelf=f=8000:g=2,volume=-12dB"
    graph = ";".join(f"[{i}]{chain}[a{i}]" for i in range(_TRACKS))
    mixed = "".join(f"[a{i}]" for i in range(_TRACKS))
    graph += f";{mixed}amix=inputs={_TRACKS}:normalize=0,aformat=channel_layouts=stereo"
    graph += ",ebur128=peak=true[out]"
    return [
        "ffmpeg", "-y", *inputs, "-filter_complex", graph, "-map", "[out]",
        "-c:a", "pcm_s24le", str(folder / "filtered.wav"),
    ]  # fmt: skip


def _ffmpeg_headphones(folder: Path) -> list[str]:
    heard = f"aformat=channel_layouts=7.1,sofalizer=sofa={SHIPPED}:type=freq,ebur128=peak=true"
    return [
        "ffmpeg", "-y", "-i", str(folder / "eight.wav"), "-af", heard,
        "-c:a", "pcm_s24le", str(folder / "heard.wav"),
    ]  # fmt: skip


def _ffmpeg_loudness(folder: Path) -> list[str]:
    return [
        "ffmpeg", "-i", str(folder / "eight.wav"), "-af", "ebur128=peak=true",
        "-f", "null", "-",
    ]  # fmt: skip
