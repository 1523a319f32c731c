"""Files with an audio definition: written by the standard, read back, and from elsewhere."""

import json
import shutil
import struct
import subprocess
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import numpy as np
import soundfile

from metaphon.core.adm.importing import definition_of, import_file
from metaphon.core.adm.reading import from_xml, local, rows_of
from metaphon.core.document.handover import Handover
from metaphon.core.engine.naming import Names
from metaphon.core.engine.offline import render_to_files, runs_of
from metaphon.core.errors import InputError
from metaphon.core.files.wave_chunks import add_chunks, chunk, chunks
from tests.runner import long_test
from tests.sounds import RATE_HZ, FolderTest, noise

# ITU-R BS.2076-2, section 5 and 6 (from memory): what each element must have, and how it is called
RULES = {
    "audioProgramme": ("audioProgrammeID", r"APR_[0-9a-f]{4}", ("audioProgrammeName", "start")),
    "audioContent": ("audioContentID", r"ACO_[0-9a-f]{4}", ("audioContentName",)),
    "audioObject": ("audioObjectID", r"AO_[0-9a-f]{4}", ("audioObjectName",)),
    "audioPackFormat": (
        "audioPackFormatID",
        r"AP_000[1-5][0-9a-f]{4}",
        ("audioPackFormatName", "typeLabel"),
    ),
    "audioChannelFormat": (
        "audioChannelFormatID",
        r"AC_000[1-5][0-9a-f]{4}",
        ("audioChannelFormatName", "typeLabel"),
    ),
    "audioBlockFormat": ("audioBlockFormatID", r"AB_000[1-5][0-9a-f]{4}_[0-9a-f]{8}", ()),
    "audioTrackUID": ("UID", r"ATU_[0-9a-f]{8}", ("sampleRate", "bitDepth")),
}
TIME = r"\d{2}:\d{2}:\d{2}\.\d{5}S48000"


def null_db(wanted: np.ndarray, found: np.ndarray) -> float:
    """What two sounds differ by, against the first."""
    length = min(wanted.shape[1], found.shape[1])
    off = (wanted[:, :length] - found[:, :length]).astype(float)
    return float(10 * np.log10(np.sum(off**2) / np.sum(wanted.astype(float) ** 2) + 1e-20))


class AdmTest(FolderTest):
    def busy(self) -> Any:
        """A bed, a scene, objects that stand, jump, glide, widen, in angles and in the room."""
        for number, (name, channels) in enumerate({"a": 1, "b": 2, "five": 6, "sea": 4}.items()):
            self.write(f"{name}.wav", noise(channels, 2.0, number), subtype="PCM_24")
        place = {"mode": "object", "azimuth_deg": 30.0, "elevation_deg": 10.0, "extent_deg": 40.0}
        tracks = [
            {"sound": "a.wav", "id": "gull", "name": "Gull", "placement": place},
            {
                "sound": "a.wav",
                "id": "boat",
                "placement": {"mode": "object", "coordinates": "cube"},
            },
            {
                "sound": "b.wav",
                "id": "bells",
                "placement": {"mode": "object", "azimuth_deg": 170.0, "importance": 4},
            },
            {
                "sound": "a.wav",
                "id": "horn",
                "placement": {
                    "mode": "object",
                    "azimuth_deg": -100.0,
                    "distance": 0.6,
                    "divergence": 0.4,
                    "diffuseness": 0.3,
                    "excluded": ["front"],
                },
            },
            {"sound": "five.wav", "id": "rain", "placement": {"layout": "0+5+0"}},
            {"sound": "b.wav", "id": "choir", "lfe": {"on": True}, "placement": {}},
            {"sound": "sea.wav", "id": "sea", "placement": {"mode": "scene"}},
        ]
        lanes = {
            "gull/placement/azimuth_deg": [(0.2, 150.0), (1.0, -150.0), (1.8, 20.0)],
            "gull/placement/elevation_deg": [(0.0, 0.0, "smooth"), (1.5, 60.0)],
            "boat/placement/x": [(0.0, -1.0, "hold"), (0.7, 1.0, "hold"), (1.4, 0.0)],
            "horn/placement/diffuseness": [(0.0, 0.0), (1.0, 1.0)],
        }
        automation = [
            {
                "target": target,
                "points": [dict(zip(("t_s", "value", "curve"), p, strict=False)) for p in points],
            }
            for target, points in lanes.items()
        ]
        return self.mix(tracks, automation=automation)

    def written(self, mix: Any, **more: Any) -> Path:
        asked = Handover(adm=True, **more)
        runs = runs_of(mix, asked)
        span = asked.start_s, asked.end_s
        results, _ = render_to_files(runs, self.folder / "out", asked, Names("T"), span_s=span)
        return results[-1].path


class Written(AdmTest):
    def test_every_element_has_what_the_standard_asks_for(self) -> None:
        path = self.written(self.busy())
        root = ElementTree.fromstring(chunk(path, b"axml") or b"")
        ids: set[str] = set()
        for element in root.iter():
            name = local(element)
            if name in RULES:
                own, pattern, others = RULES[name]
                self.assertRegex(element.attrib[own], f"^{pattern}$")
                self.assertNotIn(element.attrib[own], ids, "identifiers are taken once")
                ids.add(element.attrib[own])
                self.assertLessEqual(set(others), set(element.attrib), name)
            for time in ("rtime", "duration", "start", "end"):
                if time in element.attrib:
                    self.assertRegex(element.attrib[time], f"^{TIME}$")
        for element in root.iter():
            if local(element).endswith("IDRef"):
                self.assertIn(element.text, ids, "every reference leads somewhere")
        for channel in root.iter():
            if local(channel) == "audioChannelFormat" and channel.get("typeLabel") == "0003":
                self.joined(channel, soundfile.info(str(path)).frames)

    def joined(self, channel: ElementTree.Element, frames: int) -> None:
        """Blocks of an object follow each other without a gap, from 0 to the end."""
        at = 0
        for block in channel:
            start, length = (self.samples(block.attrib[name]) for name in ("rtime", "duration"))
            self.assertEqual(start, at)
            at = start + length
        self.assertEqual(at, frames)

    def samples(self, time: str) -> int:
        hours, minutes, rest = time.split(":")
        seconds, samples = rest.partition("S")[0].split(".")
        return (int(hours) * 3600 + int(minutes) * 60 + int(seconds)) * RATE_HZ + int(samples)

    def test_the_table_of_channels_names_each_channel_once(self) -> None:
        path = self.written(self.busy())
        table = chunk(path, b"chna")
        assert table
        channels, count = struct.unpack("<HH", table[:4])
        info = soundfile.info(str(path))
        # a bed, one channel for each of an object's, a scene of order 1
        self.assertEqual((info.channels, channels, count), (15, 15, 15))
        self.assertEqual([row.channel for row in rows_of(table)], list(range(15)))
        self.assertEqual(info.subtype, "PCM_24")
        kinds = [kind for kind, _, _ in chunks(path)]
        self.assertEqual(kinds[-4:], [b"bext", b"iXML", b"axml", b"chna"])

    def test_general_purpose_tools_read_its_sound(self) -> None:
        """libsndfile above; ffmpeg's probe here, where it is installed."""
        if not shutil.which("ffprobe"):
            self.skipTest("ffmpeg is not installed")
        call = ["ffprobe", "-v", "error", "-show_streams", "-of", "json"]
        path = self.written(self.busy())
        told = json.loads(subprocess.run([*call, str(path)], capture_output=True).stdout)
        self.assertEqual(told["streams"][0]["channels"], 15)

    def test_past_4_gib_the_sizes_stand_in_ds64(self) -> None:
        """ITU-R BS.2088-1: a file whose data say they are long, here made of a short one."""
        path = self.write("long.wav", noise(1, 0.1), subtype="PCM_24", format="RF64")
        add_chunks(path, {b"axml": b"<a/>", b"chna": struct.pack("<HH", 0, 0)})
        self.assertEqual(path.read_bytes()[:4], b"BW64")
        self.assertEqual(chunk(path, b"axml"), b"<a/>")
        size = struct.unpack("<Q", path.read_bytes()[20:28])[0]
        self.assertEqual(size, path.stat().st_size - 8)
        found = {kind: at for kind, at, _ in chunks(path)}
        self.assertLess(found[b"data"], found[b"axml"])

    @long_test
    def test_a_whole_one_past_4_gib_is_written_and_read(self) -> None:
        """A bed of 22.2 and an object at its end, 22 minutes: 25 channels of 24 bits."""
        self.write("bed.wav", noise(24, 1.0, 1), subtype="PCM_24")
        self.write("horn.wav", noise(1, 1.0, 2), subtype="PCM_24")
        at_s = 1320.0
        tracks = [
            {"id": "bed", "sound": "bed.wav", "placement": {"layout": "9+10+3"}},
            {"id": "horn", "sound": "horn.wav", "start_s": at_s, "placement": {"mode": "object"}},
        ]
        path = self.written(self.mix(tracks))
        self.assertGreater(path.stat().st_size, 1 << 32)
        with path.open("rb") as file:
            self.assertEqual(file.read(4), b"BW64")
        told = definition_of(path)
        self.assertEqual([len(one.channels) for one in told.elements], [24, 1])
        data = next(at for kind, at, _ in chunks(path) if kind == b"data")
        with path.open("rb") as file:
            file.seek(data + round(at_s * RATE_HZ) * 25 * 3)
            frame = np.frombuffer(file.read(25 * 3 * 4800), dtype=np.uint8).reshape(-1, 25, 3)
        values = frame[..., 2].astype(np.int8).astype(int) * 65536 + frame[..., 1] * 256.0
        horn = soundfile.read(str(self.folder / "horn.wav"))[0][:4800]
        self.assertLess(np.abs(values[:, 24] / 2**23 - horn).max(), 1e-4)

    def test_a_bw64_file_is_imported_and_stays_as_it_is(self) -> None:
        path = self.written(self.busy(), end_s=0.5)
        sound, _ = soundfile.read(str(path))
        other = self.write("long.wav", sound.T, subtype="PCM_24", format="RF64")
        add_chunks(other, {kind: chunk(path, kind) or b"" for kind in (b"axml", b"chna")})
        long = other.read_bytes()
        self.assertEqual(long[:4], b"BW64")
        back, _ = import_file(other, self.folder / "long")
        self.assertEqual(other.read_bytes(), long)
        self.assertEqual(len(back.tracks), 7)

    def test_loudness_is_that_of_its_playing(self) -> None:
        found = definition_of(self.written(self.busy())).programmes[0].loudness
        assert found.integrated_lufs is not None
        plain = Handover(targets=("4+7+0",))
        (result,), _ = render_to_files(
            runs_of(self.busy(), plain), self.folder / "plain", plain, Names("P")
        )
        self.assertAlmostEqual(found.integrated_lufs, result.figures.integrated_lufs, places=2)


class ReadBack(AdmTest):
    def test_it_is_the_same_mix_on_every_target(self) -> None:
        """Below -80 dB by energy; in 32-bit float, so that no dither is in the way.

        On headphones an eased way is looked at in other places than a hundred straight ones.
        """
        mix = self.busy()
        back, notes = import_file(self.written(mix, bits="32f"), self.folder / "back")
        self.assertEqual(notes, ())
        names = [track.name for track in back.tracks]
        self.assertEqual(names[:5], ["Bed 5.1", "Gull", "boat", "bells 1", "bells 2"])
        for target, below_db in (
            ("0+2+0", -80),
            ("4+7+0", -80),
            ("scene3", -80),
            ("binaural", -60),
        ):
            with self.subTest(target):
                wanted, found = self.rendered(mix, target), self.rendered(back, target)
                self.assertLess(null_db(wanted, found), below_db)

    def test_written_again_it_says_the_same(self) -> None:
        first = self.written(self.busy(), bits="32f")
        back, _ = import_file(first, self.folder / "back")
        again = definition_of(self.written(back, bits="32f"))
        for one, other in zip(definition_of(first).elements, again.elements, strict=False):
            if one.kind == "object" and len(one.paths) == 1:
                at = np.linspace(0.01, 1.95, 57)
                for row in range(6):
                    values = [
                        np.interp(at, e.paths[0].times_s, e.paths[0].values[row])
                        for e in (one, other)
                    ]
                    apart = (values[0] - values[1] + 180.0) % 360.0 - 180.0
                    self.assertLess(np.abs(apart).max(), 0.01, f"{one.name} {row}")

    def test_a_span_begins_where_it_begins(self) -> None:
        mix = self.busy()
        path = self.written(mix, bits="32f", start_s=0.5, end_s=1.5, lead_s=0.25)
        back, _ = import_file(path, self.folder / "back")
        whole = self.rendered(mix, "0+5+0")
        part = self.rendered(back, "0+5+0")
        first = round(0.25 * RATE_HZ)
        own = part[:, first + 4000 : first + RATE_HZ - 4000]
        wanted = whole[:, RATE_HZ // 2 + 4000 : RATE_HZ * 3 // 2 - 4000]
        self.assertLess(null_db(wanted, own), -55.0)


class FromElsewhere(AdmTest):
    """Habits of other producers, written by hand from the standard."""

    def read(self, body: str, rows: list[tuple[int, str, str, str]], channels: int = 4) -> Any:
        table = struct.pack("<HH", len(rows), len(rows)) + b"".join(
            struct.pack("<H12s14s11sx", n, *(text.encode() for text in texts)) for n, *texts in rows
        )
        text = f"<audioFormatExtended>{body}</audioFormatExtended>"
        return from_xml(text, rows_of(table), channels)

    def test_common_definitions_need_no_text(self) -> None:
        body = (
            '<audioObject audioObjectID="AO_1001" audioObjectName="Bed">'
            "<audioPackFormatIDRef>AP_00010003</audioPackFormatIDRef>"
            "<audioTrackUIDRef>ATU_00000001</audioTrackUIDRef>"
            "<audioTrackUIDRef>ATU_00000002</audioTrackUIDRef></audioObject>"
        )
        rows = [
            (1, "ATU_00000001", "AT_00010004_01", "AP_00010003"),
            (2, "ATU_00000002", "AT_00010005_01", "AP_00010003"),
        ]
        (bed,) = self.read(body, rows).elements
        self.assertEqual([s.label for s in bed.loudspeakers], ["LFE1", "M+110"])

    def test_by_stream_and_track_in_the_room_with_gains_in_db(self) -> None:
        body = (
            '<audioObject audioObjectID="AO_1001" audioObjectName="Horn" start="00:00:01.00000">'
            '<gain gainUnit="dB">-6</gain>'
            "<audioTrackUIDRef>ATU_00000001</audioTrackUIDRef></audioObject>"
            '<audioPackFormat audioPackFormatID="AP_00031001" typeDefinition="Objects"/>'
            '<audioChannelFormat audioChannelFormatID="AC_00031001"><audioBlockFormat>'
            "<cartesian>1</cartesian>"
            '<position coordinate="X">-0.5</position><position coordinate="Y">1</position>'
            "</audioBlockFormat></audioChannelFormat>"
            '<audioStreamFormat audioStreamFormatID="AS_00031001">'
            "<audioChannelFormatIDRef>AC_00031001</audioChannelFormatIDRef></audioStreamFormat>"
            '<audioTrackFormat audioTrackFormatID="AT_00031001_01">'
            "<audioStreamFormatIDRef>AS_00031001</audioStreamFormatIDRef></audioTrackFormat>"
        )
        (horn,) = self.read(body, [(1, "ATU_00000001", "AT_00031001_01", "AP_00031001")]).elements
        self.assertEqual((horn.kind, horn.gain_db, horn.start_s), ("object", -6.0, 1.0))
        self.assertTrue(horn.paths[0].in_room)
        self.assertEqual(horn.paths[0].values[:2, 0].tolist(), [-0.5, 1.0])

    def test_what_is_not_understood_is_told(self) -> None:
        with self.assertRaisesRegex(InputError, "defines no sound"):
            self.read('<audioProgramme audioProgrammeID="APR_1001"/>', [])
        body = (
            '<audioObject audioObjectID="AO_1001" audioObjectName="M">'
            "<audioTrackUIDRef>ATU_00000001</audioTrackUIDRef>"
            "<audioTrackUIDRef>ATU_00000009</audioTrackUIDRef></audioObject>"
            '<audioObject audioObjectID="AO_1002" audioObjectName="N">'
            "<audioTrackUIDRef>ATU_00000002</audioTrackUIDRef></audioObject>"
        )
        rows = [
            (1, "ATU_00000001", "AT_00010001_01", "AP_00010001"),
            (2, "ATU_00000002", "AT_00021001_01", "AP_00021001"),
            (9, "ATU_00000003", "AT_00010001_01", "AP_00010001"),
        ]
        found = self.read(body, rows)
        self.assertEqual([element.name for element in found.elements], ["M"])
        said = " ".join(found.notes)
        for words in ("on channels that the file has not", "M: 1 of its tracks", "N: its kind"):
            self.assertIn(words, said)

    def test_a_file_without_one_is_refused(self) -> None:
        with self.assertRaisesRegex(InputError, "has no audio definition"):
            definition_of(self.write("plain.wav", noise(1, 0.1)))


class Levelled(AdmTest):
    def test_it_is_brought_to_its_loudness_by_gain_alone(self) -> None:
        path = self.written(self.busy(), level="limiter", loudness_lufs=-30.0, container="flac")
        self.assertEqual(path.suffix, ".wav")
        loudness = definition_of(path).programmes[0].loudness
        self.assertAlmostEqual(loudness.integrated_lufs or 0.0, -30.0, places=1)
        back, _ = import_file(path, self.folder / "back")
        plain = Handover(targets=("4+7+0",))
        (result,), _ = render_to_files(
            runs_of(back, plain), self.folder / "plain", plain, Names("P")
        )
        self.assertAlmostEqual(result.figures.integrated_lufs or 0.0, -30.0, places=1)
