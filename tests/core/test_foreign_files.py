"""What somebody else has written: bounded before it is read, read apart, and found out."""

import os
import time
from pathlib import Path
from typing import Any

import numpy as np
import sofar
import soundfile

from metaphon.core.errors import InputError, MachineBusy
from metaphon.core.files.apart import read_apart
from metaphon.core.files.audio import ClipReader, probe
from metaphon.core.files.intake import take_in
from metaphon.core.listen.headphones import read_response
from metaphon.core.spatial.ambisonics import sphere_grid
from metaphon.core.spatial.head import load_head
from tests.sounds import RATE_HZ, FolderTest, noise


def swallow(path: Path) -> int:
    return np.ones(1 << 33).nbytes + path.stat().st_size  # 64 GiB


def never_end(path: Path) -> None:
    while True:
        path.stat()


def sleep_on(path: Path) -> None:
    time.sleep(3600)


def die(path: Path) -> None:
    os.abort()


def stumble(path: Path) -> None:
    raise KeyError(path.name)


def count(path: Path, progress: Any) -> int:
    for n in range(4):
        time.sleep(0.25)
        progress(n / 4)
    return path.stat().st_size


class Apart(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        self.file = self.write("a.wav", noise(1, 0.1))

    def test_what_takes_too_much_or_breaks_costs_one_sentence(self) -> None:
        for work in (swallow, never_end, die, stumble):
            with (
                self.subTest(work.__name__),
                self.assertLogs(),
                self.assertRaisesRegex(InputError, "^Boat.wav cannot be read with the memory"),
            ):
                read_apart(work, self.file, path=self.file, name="Boat.wav", seconds=0.5)

    def test_what_sleeps_on_is_ended_too(self) -> None:
        """From outside it may be one that a busy machine gives no time, and is told as one."""
        with self.assertNoLogs(), self.assertRaisesRegex(MachineBusy, "try it again later"):
            read_apart(sleep_on, self.file, path=self.file, name="Boat.wav", seconds=5.0)

    def test_it_tells_how_far_it_is_and_gives_its_result(self) -> None:
        told: list[float] = []
        found = read_apart(count, self.file, path=self.file, name="a", progress=told.append)
        self.assertEqual(found, self.file.stat().st_size)
        self.assertEqual(told, sorted(told))
        self.assertGreaterEqual(len(told), 3)

    def test_a_recording_is_taken_in_as_it_would_be_here(self) -> None:
        other = self.write("b.wav", noise(2, 0.5), 44100)
        here = take_in(other, RATE_HZ, self.folder / "0.wav", "b")
        there = read_apart(
            take_in, other, RATE_HZ, self.folder / "1.wav", "b", path=other, name="b"
        )
        self.assertEqual(here, there)
        one, two = (soundfile.read(self.folder / f"{n}.wav")[0] for n in (0, 1))
        np.testing.assert_array_equal(one, two)


class Recordings(FolderTest):
    def test_rates_that_nothing_is_recorded_at_are_refused(self) -> None:
        for rate in (1, 10, 7999, 400_000):
            path = self.write(f"{rate}.wav", noise(1, 0.01), rate)
            with self.assertRaisesRegex(InputError, f"says it is at {rate} Hz; .* 8 to 384 kHz"):
                probe(path)
        self.assertEqual(probe(self.write("low.wav", noise(1, 0.1), 8000)).sample_rate_hz, 8000)

    def test_a_damaged_recording_is_named_with_its_place(self) -> None:
        whole = self.write("a.flac", noise(1, 4.0)).read_bytes()
        half = whole[: len(whole) // 2]
        turned = bytearray(whole)
        turned[len(whole) // 2] ^= 0x10
        for name, data in (("half.flac", half), ("turned.flac", bytes(turned))):
            path = self.folder / name
            path.write_bytes(data)
            reader = ClipReader(path)
            self.addCleanup(reader.close)
            reader.read(0, RATE_HZ)  # what lies before is heard
            with self.assertRaisesRegex(InputError, f"{name} is damaged near [12].. s; copy"):
                for second in range(1, 4):
                    reader.read(second * RATE_HZ, RATE_HZ)
            with self.assertRaises(InputError):
                take_in(path, RATE_HZ, self.folder / "out.wav", name)


class Heads(FolderTest):
    def head(self, name: str = "head.sofa", **change: Any) -> Path:
        azimuth, elevation, _ = sphere_grid()
        sofa = sofar.Sofa("SimpleFreeFieldHRIR")
        responses = np.zeros((len(azimuth), 2, 64))
        responses[:, :, 5] = 0.5
        sofa.Data_IR = responses
        sofa.SourcePosition = np.stack([azimuth, elevation, np.ones_like(azimuth)], axis=1)
        sofa.Data_SamplingRate = 48000.0
        for field, value in change.items():
            setattr(sofa, field, value)
        path = self.folder / name
        sofar.write_sofa(str(path), sofa, 0)
        return path

    def test_a_sound_one_is_read(self) -> None:
        self.assertEqual(load_head(self.head(), RATE_HZ).rate_hz, RATE_HZ)

    def test_what_is_no_head_is_refused_in_a_sentence(self) -> None:
        count = len(sphere_grid()[0])
        full = lambda value: np.full((count, 2, 64), value)  # noqa: E731
        for number, (words, change) in enumerate(
            (
                ("at 100 Hz; responses may be at 8 to 384 kHz", {"Data_SamplingRate": 100.0}),
                ("at nan Hz", {"Data_SamplingRate": np.nan}),
                ("not a number", {"Data_IR": full(np.nan)}),
                ("is silent", {"Data_IR": full(0.0)}),
                ("louder than any", {"Data_IR": full(1e300)}),
                (
                    "not hold directions from all round",
                    {"SourcePosition": np.tile([0.0, 0.0, 1.0], (count, 1))},
                ),
            )
        ):
            path = self.head(f"{number}.sofa", **change)
            with self.subTest(words), self.assertRaisesRegex(InputError, words):
                load_head(path, RATE_HZ)

    def test_a_head_is_no_response_of_headphones(self) -> None:
        with self.assertRaisesRegex(InputError, "not a headphone file"):
            read_response(self.head())
