"""The cases. Each gives lines of plain words and figures."""

import atexit
import resource
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from functools import cache
from pathlib import Path

import numpy as np
import pyloudnorm
import soundfile

from bench.back import back
from bench.coherence import coherence
from bench.edits import edits
from bench.field import field
from bench.handover import handover
from bench.listening import listen
from bench.pages import pages
from bench.reverb import reverb
from bench.speed import speed
from bench.timing import in_turn, ratio
from metaphon.core.demo.mixes import write_demo
from metaphon.core.document.handover import Handover
from metaphon.core.document.mix import Mix
from metaphon.core.dsp.motion import Motion
from metaphon.core.engine.naming import Names
from metaphon.core.engine.offline import render_to_files, runs_of
from metaphon.core.engine.plan import compile
from metaphon.core.files.mixdoc import read
from metaphon.core.measure.programme import ProgrammeMeter
from metaphon.core.process.basics import Basics
from metaphon.core.process.processor import Channels
from metaphon.core.spatial.layouts import LAYOUTS

_THREE = ("0+2+0", "0+5+0", "binaural")
_HOUR_S = 3600


@cache
def _scratch() -> Path:
    folder = Path(tempfile.mkdtemp(prefix="metaphon-bench-"))
    atexit.register(shutil.rmtree, folder)
    return folder


@cache
def _lamp() -> Mix:
    return read(write_demo(_scratch() / "demo")[0])


def _rendered(mix: Mix, targets: tuple[str, ...]) -> None:
    asked = Handover(targets=targets)
    render_to_files(runs_of(mix, asked), _scratch() / "out", asked, Names(mix.title))


def targets() -> Iterator[str]:
    """Three targets in one pass, against each alone."""
    mix = _lamp()
    together, *alone = in_turn(
        lambda: _rendered(mix, _THREE),
        *(lambda t=t: _rendered(mix, (t,)) for t in _THREE),
        rounds=3,
    )
    length_s = compile(mix).duration_s
    for name, took in zip(("three at once", *_THREE), (together, *alone), strict=True):
        yield f"{name}: {took:.2f} s, {length_s / took:.1f} x real time"
    yield f"three at once over the dearest alone: {together / max(alone):.2f} (asked: at most 1.6)"


def stereo() -> Iterator[str]:
    """The demo to stereo, against a plain program that reads, adds and writes the same files with
    no graph.
    """
    mix = _lamp()
    paths = [clip.file for track in mix.tracks for clip in track.clips]

    def plain() -> None:
        total = np.zeros((60 * mix.sample_rate_hz, 2), dtype=np.float32)
        for path in paths:
            sound = soundfile.read(str(path), dtype="float32", always_2d=True)[0][: len(total)]
            total[: len(sound)] += sound.mean(axis=1, keepdims=True)
        soundfile.write(str(_scratch() / "plain.wav"), total, mix.sample_rate_hz, subtype="PCM_24")

    over, took = ratio(lambda: _rendered(mix, ("0+2+0",)), plain)
    yield (
        "graph, reverb, panning and measures over plain reading and adding: "
        f"{over:.1f} ({took:.2f} s)"
    )


def measure() -> Iterator[str]:
    """All measures of 60 s of stereo, against pyloudnorm's integrated loudness alone."""
    rate = 48000
    sound = np.random.default_rng(1).normal(0.0, 0.1, (2, 60 * rate)).astype(np.float32)

    def ours() -> None:
        meter = ProgrammeMeter(2, rate, LAYOUTS["0+2+0"])
        for first in range(0, sound.shape[1], 8192):
            meter.add(sound[:, first : first + 8192])
        meter.finish()

    over, took = ratio(ours, lambda: pyloudnorm.Meter(rate).integrated_loudness(sound.T))
    yield (
        "loudness, true peak, correlation and their history over one figure of a "
        f"plain tool: {over:.2f} ({took:.2f} s)"
    )


def memory() -> Iterator[str]:
    """A 60-minute mix of 8 tracks to three targets, in a process of its own."""
    folder = _scratch() / "hour"
    folder.mkdir()
    noise = np.random.default_rng(2).normal(0.0, 0.05, 60 * 48000).astype(np.float32)
    for track in range(8):
        with soundfile.SoundFile(str(folder / f"{track}.wav"), "w", 48000, 1, "PCM_24") as file:
            for minute in range(_HOUR_S // 60):
                file.write(np.roll(noise, 1009 * (minute + 60 * track)))
    tracks = ",".join(
        f'{{"id":"t{i}","name":"Track {i}","clips":[{{"file":"{i}.wav"}}],'
        f'"sends":[{{"bus":"room"}}],"placement":{{"mode":"object","azimuth_deg":{40 * i - 160}}}}}'
        for i in range(8)
    )
    (folder / "hour.mix.json").write_text(
        f'{{"format":"metaphon-mix","title":"Hour","tracks":[{tracks}],"buses":[{{"id":"room","name":"Room",'
        '"layout":"0+5+0","chain":[{"kind":"network_reverb"}]}],"targets":["0+2+0","0+5+0","binaural"]}'
    )
    command = ["render", str(folder / "hour.mix.json"), "--out", str(folder / "out")]
    subprocess.run(
        [sys.executable, "-m", "metaphon.cli", *command], check=True, stdout=subprocess.DEVNULL
    )
    peak_mib = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
    yield (
        f"60 minutes, 8 tracks, one reverb, three targets: {peak_mib:.0f} MiB at "
        "its peak (asked: under 1 GB)"
    )


def basics() -> Iterator[str]:
    """64 strips of basics with a low-cut, on one core."""
    wide = Basics(low_cut=True, width=1.2, delay_ms=1.0)
    running = [wide.start(Channels(2), 48000, 0) for _ in range(64)]
    block = np.random.default_rng(3).normal(0.0, 0.1, (2, 8192)).astype(np.float32)
    blocks = 24
    began = time.process_time()
    for _ in range(blocks):
        for each in running:
            each.process(block, Motion.still(wide), 0)
    share = (time.process_time() - began) / (blocks * block.shape[1] / 48000)
    yield f"64 stereo strips, everything on: {share:.1%} of real time"
    narrow = Basics(low_cut=True)
    plain = [narrow.start(Channels(1), 48000, 0) for _ in range(64)]
    began = time.process_time()
    for _ in range(blocks):
        for each in plain:
            each.process(block[:1], Motion.still(narrow), 0)
    share = (time.process_time() - began) / (blocks * block.shape[1] / 48000)
    yield f"64 mono strips with a low-cut: {share:.1%} of real time (asked: under 10%)"


CASES: dict[str, Callable[[], Iterator[str]]] = {
    case.__name__: case
    for case in (
        targets,
        stereo,
        measure,
        speed,
        basics,
        coherence,
        back,
        edits,
        field,
        handover,
        pages,
        reverb,
        listen,
        memory,
    )
}
