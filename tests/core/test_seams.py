"""Pieces and ends: a render begun anywhere sounds as the whole, and nothing is cut at the end."""

from collections.abc import Iterator
from typing import Any
from unittest.mock import patch

import numpy as np
import soundfile

from metaphon.core.document.handover import FileForm
from metaphon.core.dsp.motion import PIECE, Motion
from metaphon.core.engine.making import Run
from metaphon.core.engine.naming import Names
from metaphon.core.engine.offline import render_to_files
from metaphon.core.engine.plan import QUIET_DB, compile
from metaphon.core.engine.render import length_of, render
from metaphon.core.process.processor import Channels, Processor
from metaphon.core.process.registry import KINDS
from metaphon.core.spaces.shipped import FOLDER
from tests.runner import long_test
from tests.sounds import RATE_HZ, FolderTest, files_of, noise, outputs_of

_QUICK_S = 6.0
_LOUD = slice(PIECE, 20 * PIECE)


def ends_of(kind: type[Processor]) -> Iterator[Processor]:
    """A processor by default, at its starting points, and with each number at both its ends."""
    base = {"file": FOLDER / "boat_shed_omnis_near.flac"} if "file" in kind.model_fields else {}
    if kind.model_fields["kind"].default == "eq":
        for shape in ("bell", "low_cut", "low_shelf", "notch"):
            for hertz in (20.0, 1000.0):
                for phase in ("minimum", "linear"):
                    band = {"shape": shape, "frequency_hz": hertz, "gain_db": 12.0, "q": 4.0}
                    yield kind.model_validate({"bands": [band], "phase": phase})
        return
    yield kind(**base)
    for point in kind.starting_points.values():
        yield kind(**base, **point)
    for name, field in kind.model_fields.items():
        for bound in field.metadata:
            for end in ("ge", "le"):
                if hasattr(bound, end) and name != "hold":
                    yield kind(**{**base, name: getattr(bound, end)})
        if field.annotation is bool and name != "bypassed":
            yield kind(**{**base, name: not field.default})


def run(
    processor: Processor, sound: np.ndarray, first: int = 0, piece: int = 16 * PIECE
) -> np.ndarray:
    """What a processor makes of a sound from a frame on, fresh, (channels, frames)."""
    running = processor.start(Channels(len(sound)), RATE_HZ, processor.latency_samples(RATE_HZ))
    return np.concatenate(
        [
            running.process(sound[:, at : at + piece], Motion.still(processor), at)
            for at in range(first, sound.shape[1], piece)
        ],
        axis=1,
    )


def on_grid(frames: float) -> int:
    return -int(frames // -PIECE) * PIECE


class Processors(FolderTest):
    """What every processor says of its memory and of its tail is so, at every width."""

    def each(self, quick: bool) -> Iterator[tuple[Processor, int, float]]:
        for kind in KINDS.values():
            for processor in ends_of(kind):
                memory_s = processor.memory_s(RATE_HZ)
                if (memory_s <= _QUICK_S) == quick:
                    for channels in (1, 2, 6) if memory_s < 0.2 else (2,):
                        yield processor, channels, memory_s

    def hold(self, quick: bool) -> None:
        for processor, channels, memory_s in self.each(quick):
            late = processor.latency_samples(RATE_HZ)
            memory = on_grid(memory_s * RATE_HZ)
            seam = _LOUD.stop + memory + 2 * PIECE
            sound = noise(channels, (seam + on_grid(late) + 8 * PIECE) / RATE_HZ, level=0.02)
            sound[:, _LOUD] *= 40.0
            sound = sound.astype(np.float32)
            whole = run(processor, sound)
            begun = seam - memory - PIECE
            from_there = run(processor, sound, begun)
            off = np.abs(whole[:, seam + late :] - from_there[:, seam + late - begun :]).max()
            off /= max(np.abs(whole[:, seam + late :]).max(), 0.02)
            with self.subTest(processor=repr(processor), channels=channels):
                self.assertLess(20 * np.log10(off + 1e-12), -100.0)

    def tails(self, quick: bool) -> None:
        for processor, channels, _ in self.each(quick):
            late = processor.latency_samples(RATE_HZ)
            tail = round(processor.tail_s(RATE_HZ, QUIET_DB) * RATE_HZ)
            sound = np.zeros((channels, on_grid(_LOUD.stop + tail + late + 9600)), np.float32)
            sound[:, _LOUD] = noise(channels, (_LOUD.stop - PIECE) / RATE_HZ, level=0.2)
            out = run(processor, sound)
            loudest = max(np.abs(out).max(), 0.5)
            rest = np.abs(out[:, _LOUD.stop + late + tail :]).max()
            with self.subTest(processor=repr(processor), channels=channels):
                self.assertLess(20 * np.log10(rest / loudest + 1e-12), -90.0)

    def test_memories(self) -> None:
        self.hold(quick=True)

    def test_tails(self) -> None:
        self.tails(quick=True)

    @long_test
    def test_long_memories(self) -> None:
        self.hold(quick=False)

    @long_test
    def test_long_tails(self) -> None:
        self.tails(quick=False)


TARGETS = ("0+1+0", "0+2+0", "0+5+0", "2+7+0", "4+7+0", "binaural", "scene1", "scene3")
PLACED: dict[str, dict[str, Any]] = {
    "bed": {"mode": "bed", "layout": "0+5+0"},
    "object": {"mode": "object", "azimuth_deg": 50.0},
    "wide": {"mode": "object", "azimuth_deg": 50.0, "extent_deg": 90.0},
    "diffuse": {"mode": "object", "azimuth_deg": 50.0, "diffuseness": 0.7},
    "far": {"mode": "object", "distance": 4.0, "travel": True, "air": True},
    "reflected": {"mode": "object", "azimuth_deg": 90.0, "reflections": True},
    "scene": {"mode": "scene"},
    "dual band": {"mode": "scene", "weighting": "dual_band"},
}


class Renderers(FolderTest):
    """Every target for everything that can be placed, with and without surrounds shifted."""

    def mixes(self, sound: np.ndarray) -> Iterator[tuple[Any, str]]:
        for name, placement in PLACED.items():
            channels = {"bed": 6, "scene": 4, "dual band": 4}.get(name, 1)
            path = f"{name} {sound.shape[1]}.wav"
            self.write(path, np.broadcast_to(sound, (channels, sound.shape[1])))
            for shifted in (False, True):
                track = {"sound": path, "placement": placement, "lfe": {"on": name == "object"}}
                mix = self.mix([track], fold_down={"surround_shift": shifted})
                for target in TARGETS:
                    yield mix, target

    def test_a_click_in_the_last_sample_is_whole(self) -> None:
        """It has the energy that it has in the middle of a longer recording, tail and all."""
        click = np.zeros((1, 4800))
        click[0, -1] = 0.5
        amid = np.pad(click, ((0, 0), (0, RATE_HZ)))
        energies = [float(np.sum(self.rendered(*one) ** 2)) for one in self.mixes(amid)]
        for one, energy in zip(self.mixes(click), energies, strict=True):
            got = self.rendered(*one)
            self.assertLess(abs(float(np.sum(got**2)) - energy), 1e-6 * energy)
            end = np.abs(got[:, -1]).max() / np.abs(got).max()
            self.assertLess(20 * np.log10(end + 1e-12), -60.0 if got.shape[1] > 4800 else 1.0)

    def test_a_piece_begun_anywhere_is_as_in_the_whole(self) -> None:
        """Loud before the seam, soft after it."""
        sound = noise(1, 2.0, level=0.02)
        sound[:, : RATE_HZ // 2] *= 20.0
        for mix, target in self.mixes(sound):
            plan, outputs = compile(mix), outputs_of(target)
            whole = self.rendered(mix, target)
            for seam in (RATE_HZ // 2, RATE_HZ // 2 + 1, RATE_HZ // 2 + 777):
                parts = [block[0] for block in render(plan, outputs, first=seam)]
                piece = np.concatenate(parts, axis=1)
                off = np.abs(piece - whole[:, seam:]).max()
                self.assertLess(off, 1e-5 * np.abs(whole[:, seam:]).max())

    def test_pieces_of_a_long_mix_with_everything_in_a_row(self) -> None:
        """A limiter turned down hard before the seam, behind rooms, on a bus, with lanes."""
        sound = noise(1, 16.0, level=0.01)
        sound[:, : RATE_HZ // 2] *= 60.0
        self.write("a.wav", sound)
        low_cut = {"shape": "low_cut", "frequency_hz": 30.0}
        track = {
            "sound": "a.wav",
            "chain": [{"kind": "eq", "bands": [low_cut]}, {"kind": "doubler"}],
            "output": "b",
            "placement": PLACED["wide"],
        }
        chain = [
            {"kind": "network_reverb", "decay_s": 0.4, "wet_only": False},
            {"kind": "limiter", "release_ms": 300.0, "drive_db": 6.0},
        ]
        bus = {"id": "b", "name": "b", "layout": "0+2+0", "chain": chain}
        points = [{"t_s": t, "value": v} for t, v in ((0.0, 0.0), (8.0, 6.0), (16.0, 0.0))]
        lane = {"target": "b/chain/1/drive_db", "points": points}
        mix = self.mix([track], buses=[bus], automation=[lane])
        run = Run(compile(mix), outputs_of("0+2+0"))
        read = []
        for seconds in (300.0, 5.3):
            with patch("metaphon.core.engine.lanes.PIECE_S", seconds):
                folder = self.folder / str(seconds)
                [made], _ = render_to_files([run], folder, FileForm(bits="32f"), Names("M"))
                read.append(soundfile.read(str(made.path))[0])
        for seam in (5.3, 10.7):
            part = slice(round((seam - 0.2) * RATE_HZ), round((seam + 0.4) * RATE_HZ))
            off = np.abs(read[0][part] - read[1][part]).max()
            self.assertLess(off, 1e-5 * np.abs(read[0][part]).max())

    def test_all_of_a_handover_is_equally_long(self) -> None:
        mix = self.mix([{"sound": self.write("a.wav", noise(1, 0.5)).name}])
        plan = compile(mix)
        self.assertEqual(length_of(plan, outputs_of("0+2+0")), RATE_HZ // 2)
        head = length_of(plan, outputs_of("0+2+0", "binaural")) - RATE_HZ // 2
        self.assertTrue(100 < head < RATE_HZ // 10, head)
        results = files_of(mix, self.folder, "0+2+0", "binaural")
        self.assertEqual(
            {soundfile.info(str(one.path)).frames for one in results}, {head + RATE_HZ // 2}
        )
