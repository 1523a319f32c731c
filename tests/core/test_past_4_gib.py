"""Files past 4 GiB, where sizes of 32 bits end: each container read, and each one that is written.

The headers are made here from the texts of the formats, the sound is a hole in the file system but
for its last second. Sources: EBU Tech 3306 (RF64), ITU-R BS.2088-1 (BW64), the specification of the
Core Audio Format 1.0; the identifiers of Wave64 are from memory, and libsndfile reads by them.
"""

import json
import struct
import subprocess
from collections.abc import Callable
from pathlib import Path

import numpy as np
import soundfile

from metaphon.core.document.handover import FileForm
from metaphon.core.engine.making import Run
from metaphon.core.engine.naming import Names
from metaphon.core.engine.offline import render_to_files
from metaphon.core.engine.plan import compile
from metaphon.core.errors import InputError
from metaphon.core.files.audio import AudioWriter, ClipReader, probe
from metaphon.core.files.channel_labels import names_in
from metaphon.core.files.cues import Cue, cue_chunks, cues_of
from metaphon.core.files.intake import take_in
from metaphon.core.files.wave_chunks import add_chunks, chunk
from tests.runner import long_test
from tests.sounds import RATE_HZ, FolderTest, noise, outputs_of

GIB4 = 1 << 32
FRAMES = GIB4 // 6 + 10 * RATE_HZ  # two channels of 24 bits
UNSAID = 0xFFFFFFFF
_FORM = struct.pack("<HHIIHH", 1, 2, RATE_HZ, RATE_HZ * 6, 6, 24)
_W64 = bytes.fromhex("f3acd3118cd100c04f8edb8a")


def riff_64(word: bytes, size: int) -> bytes:
    sizes = struct.pack("<QQQI", size + 72, size, size // 6, 0)
    return (
        word
        + struct.pack("<I4s4sI", UNSAID, b"WAVE", b"ds64", 28)
        + sizes
        + struct.pack("<4sI", b"fmt ", 16)
        + _FORM
        + struct.pack("<4sI", b"data", UNSAID)
    )


def wave_64(size: int) -> bytes:
    riff = b"riff" + bytes.fromhex("2e91cf11a5d628db04c10000")
    total = 24 + 16 + 40 + 24 + size
    return (
        riff
        + struct.pack("<Q", total)
        + (b"wave" + _W64)
        + (b"fmt " + _W64 + struct.pack("<Q", 40) + _FORM)
        + (b"data" + _W64 + struct.pack("<Q", size + 24))
    )


def core_audio(size: int) -> bytes:
    lpcm_little = struct.pack(">d4sIIIII", RATE_HZ, b"lpcm", 2, 6, 1, 2, 24)
    return (
        struct.pack(">4sHH", b"caff", 1, 0)
        + struct.pack(">4sq", b"desc", 32)
        + lpcm_little
        + struct.pack(">4sqI", b"data", size + 4, 0)
    )


def riff(said: int) -> bytes:
    return (
        struct.pack("<4sI4s4sI", b"RIFF", said, b"WAVE", b"fmt ", 16)
        + _FORM
        + struct.pack("<4sI", b"data", said)
    )


HEADERS: dict[str, Callable[[int], bytes]] = {
    "RF64": lambda size: riff_64(b"RF64", size),
    "BW64": lambda size: riff_64(b"BW64", size),
    "W64": wave_64,
    "CAF": core_audio,
}


class LongFileTest(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        last = np.round(noise(2, 1.0) * 2**23).astype("<i4")
        self.last = (last / 2**23).astype(np.float32)
        self.packed = last.T.copy().view(np.uint8).reshape(-1, 4)[:, :3].tobytes()

    def long_file(self, header: bytes, name: str = "long.wav") -> Path:
        path = self.folder / name
        with path.open("wb") as file:
            file.write(header)
            file.seek(len(header) + FRAMES * 6 - len(self.packed))
            file.write(self.packed)
        return path


class Read(LongFileTest):
    def test_the_end_of_each_container(self) -> None:
        for kind, header in HEADERS.items():
            with self.subTest(kind):
                path = self.long_file(header(FRAMES * 6), kind)
                self.assertEqual(probe(path).frames, FRAMES)
                reader = ClipReader(path)
                got = reader.read(FRAMES - RATE_HZ - 5, RATE_HZ + 10)
                reader.close()
                np.testing.assert_array_equal(got[:, 5:-5], self.last)
                self.assertFalse(got[:, :5].any() or got[:, -5:].any())

    def test_a_clip_from_beyond_4_gib_is_heard(self) -> None:
        for kind in ("RF64", "CAF"):
            path = self.long_file(HEADERS[kind](FRAMES * 6), kind)
            clip = {"file": path.name, "in_s": FRAMES / RATE_HZ - 1.0, "length_s": 1.0}
            track = {"id": "a", "name": "a", "clips": [clip], "placement": {"layout": "0+2+0"}}
            got = self.rendered(self.mix([track]), "0+2+0")
            np.testing.assert_allclose(got[:, :RATE_HZ], self.last, atol=1e-6)

    def test_a_header_that_cannot_say_the_size_is_refused(self) -> None:
        """The length modulo 4 GiB, or none: of what it says, hours are missing."""
        for said in (FRAMES * 6 % GIB4, UNSAID, 0):
            path = self.long_file(riff(said), f"{said}.wav")
            with self.subTest(said), self.assertRaisesRegex(InputError, "past 4 GB"):
                probe(path)

    @long_test
    def test_each_is_taken_in_whole(self) -> None:
        for kind, header in HEADERS.items():
            path = self.long_file(header(FRAMES * 6), kind)
            taken = take_in(path, RATE_HZ, self.folder / "converted.wav", kind)
            self.assertEqual((taken.frames, taken.converted), (FRAMES, False))
            self.assertGreater(taken.outline[-1], 0.3)
            self.assertEqual(max(taken.outline[:-2]), 0.0)


class Written(LongFileTest):
    def test_chunks_that_carry_a_file_past_4_gib(self) -> None:
        """The sound alone ends 100 bytes before; sizes of 32 bits do for it, not for the whole."""
        path = self.folder / "edge.wav"
        with AudioWriter(path, 2, RATE_HZ, "24") as writer:
            writer.add(self.last)
        frames = (GIB4 - 200) // 6
        begin = path.read_bytes().index(b"data") + 8
        with path.open("r+b") as file:
            file.seek(begin - 4)
            file.write(struct.pack("<I", frames * 6))
            file.truncate(begin + frames * 6)
            file.seek(4)
            file.write(struct.pack("<I", begin + frames * 6 - 8))
        add_chunks(path, {**cue_chunks([Cue(frames - 7, "last")]), b"bext": bytes(602)})
        size = path.stat().st_size
        self.assertGreater(size, GIB4)
        with path.open("rb") as file:
            head = file.read(begin)
        self.assertEqual(head[:4], b"RF64")
        self.assertEqual(struct.unpack("<I", head[4:8])[0], UNSAID)
        self.assertEqual(head[12:16], b"ds64")
        self.assertEqual(struct.unpack("<QQQ", head[20:44])[:2], (size - 8, frames * 6))
        self.assertEqual([(one.frame, one.name) for one in cues_of(path)], [(frames - 7, "last")])
        self.assertEqual(probe(path).frames, frames)
        self.assertEqual(len(chunk(path, b"bext") or b""), 602)

    @long_test
    def test_each_container_and_depth(self) -> None:
        """A mix of 5.1 in WAV of 24 and of 32 bits and in FLAC: as long as takes each past 4 GiB.

        The noise is there for FLAC, which packs silence away.
        """
        self.write("noise.wav", np.clip(noise(6, 60.0, 3, 0.2), -1, 1))
        for form, bytes_a_sample in (
            (FileForm(bits="24"), 3.0),
            (FileForm(bits="32f"), 4.0),
            (FileForm(container="flac", bits="24"), 2.5),
        ):
            rounds = int(GIB4 / (60 * RATE_HZ * 6 * bytes_a_sample)) + 2
            clips = [{"file": "noise.wav", "start_s": 60.0 * n} for n in range(rounds)]
            track = {"id": "a", "name": "a", "clips": clips, "placement": {"layout": "0+5+0"}}
            markers = [{"id": "m", "name": "end", "at_s": 60.0 * rounds - 1.0}]
            mix = self.mix([track], markers=markers)
            run = Run(compile(mix), outputs_of("0+5+0"), whole=True)
            [made], _ = render_to_files([run], self.folder, form, Names("Long"))
            path = made.path
            with self.subTest(str(form)):
                self.assertGreater(path.stat().st_size, GIB4)
                self.assertEqual(probe(path).frames, 60 * RATE_HZ * rounds)
                told = subprocess.run(
                    ["ffprobe", "-v", "error", "-show_streams", "-of", "json", str(path)],
                    capture_output=True,
                    check=True,
                )
                [stream] = json.loads(told.stdout)["streams"]
                self.assertEqual(stream["channels"], 6)
                self.assertAlmostEqual(float(stream["duration"]), 60.0 * rounds, places=4)
                with soundfile.SoundFile(str(path)) as file:
                    file.seek(60 * RATE_HZ * rounds - 4800)
                    end = file.read()
                source = soundfile.read(str(self.folder / "noise.wav"))[0][-4800:]
                np.testing.assert_allclose(end, source, atol=4e-7)
                if form.container == "wav":
                    self.assertEqual(len(names_in(path)), 6)
            path.unlink()
