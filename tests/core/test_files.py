"""Bringing recordings in: what is taken, what is refused, and in which words."""

import struct
import unittest
from pathlib import Path

import numpy as np
import soundfile

from metaphon.core.document.mix import schema
from metaphon.core.errors import InputError
from metaphon.core.files.audio import AudioWriter, ClipReader, probe
from metaphon.core.files.broadcast_wave import time_reference_samples
from metaphon.core.files.conform import at_mix_rate
from metaphon.core.files.intake import take_in
from metaphon.core.files.mixdoc import parse, read, write
from metaphon.core.files.waveform import measure_peaks, tile
from metaphon.core.measure.alignment import align
from tests.runner import long_test
from tests.sounds import RATE_HZ, FolderTest, noise, sine


class Intake(FolderTest):
    def take(self, path: Path, rate_hz: int = RATE_HZ):  # type: ignore[no-untyped-def]
        return take_in(path, rate_hz, self.folder / "converted.wav", path.name)

    def test_wav_flac_and_aiff(self) -> None:
        for name in ("a.wav", "a.flac", "a.aiff"):
            taken = self.take(self.write(name, noise(2, 0.5)))
            self.assertEqual(
                (taken.channels, taken.frames, taken.converted, taken.notices),
                (2, 24000, False, []),
            )
            self.assertEqual(taken.info.container, name[2:].upper())
            self.assertAlmostEqual(
                max(taken.outline), 10 ** (taken.sample_peak_dbfs / 20), places=3
            )

    def test_other_rates_are_converted_with_a_notice(self) -> None:
        """A 1 kHz tone keeps its pitch, length and level through soxr from 8, 44.1 and 192 kHz."""
        for rate in (8000, 44100, 192000):
            taken = self.take(self.write(f"{rate}.wav", sine(1000, 1.0, -6, rate), rate))
            self.assertIn(f"was at {rate} Hz and is now at 48000 Hz", taken.notices[0])
            sound, got_rate = soundfile.read(str(self.folder / "converted.wav"))
            self.assertEqual((got_rate, taken.frames), (RATE_HZ, len(sound)))
            self.assertAlmostEqual(len(sound), RATE_HZ, delta=1)
            np.testing.assert_allclose(
                sound[5000:40000], sine(1000, 1.0, -6)[5000:40000], atol=2e-4
            )

    def test_a_silent_file_is_taken_and_said(self) -> None:
        self.assertIn(
            "silent from end to end", self.take(self.write("a.wav", np.zeros((1, 4800)))).notices[0]
        )

    def refused(self, path: Path, words: str) -> None:
        with self.assertRaisesRegex(InputError, words):
            self.take(path)
        self.assertFalse((self.folder / "converted.wav").exists())
        self.assertEqual([p for p in self.folder.iterdir() if p.suffix == ".part"], [])

    def test_refusals(self) -> None:
        text = self.folder / "text.wav"
        text.write_text("This is not sound at all.")
        self.refused(text, r"text.wav is not an audio file that can be read; bring WAV, RF64")
        empty = self.folder / "empty.wav"
        empty.touch()
        self.refused(empty, "not an audio file")
        self.refused(self.write("none.wav", np.zeros((1, 0))), "holds no sound, 0 samples")
        self.refused(
            self.write("wide.wav", noise(65, 0.1)), "has 65 channels; a recording may have 1 to 64"
        )
        bad = noise(2, 1.0)
        bad[1, 24000] = np.nan
        self.refused(self.write("nan.wav", bad), r"not numbers, the first at 0\.500 s")
        bad[1, 24000] = np.inf
        self.refused(self.write("inf.wav", bad, 44100), "not numbers")
        self.refused(
            self.write("a.au", noise(1, 0.2), format="AU", subtype="PCM_16"),
            "is a AU file; bring WAV",
        )
        self.refused(self.folder / "gone.wav", "gone.wav is not there")

    def test_cut_short(self) -> None:
        for name in ("whole.wav", "whole.aiff"):
            whole = self.write(name, noise(2, 1.0)).read_bytes()
            cut = self.folder / f"cut{name[5:]}"
            cut.write_bytes(whole[: len(whole) // 2])
            self.refused(cut, "is cut short: .* bytes are there")
        flac = self.write("whole.flac", noise(2, 3.0)).read_bytes()
        (self.folder / "cut.flac").write_bytes(flac[: len(flac) // 2])
        self.refused(self.folder / "cut.flac", r"breaks off after \d\.\d of 3\.0 s")

    def test_damaged_headers_never_break_the_program(self) -> None:
        """Bytes of a good file changed at random: it is taken or refused in words, nothing else."""
        whole = bytearray(self.write("good.wav", noise(2, 0.05), subtype="PCM_16").read_bytes())
        random = np.random.default_rng(7)
        for _ in range(60):
            damaged = bytearray(whole)
            for _ in range(3):
                damaged[random.integers(0, 60)] = random.integers(0, 256)
            path = self.folder / "damaged.wav"
            path.write_bytes(damaged)
            try:
                self.take(path)
            except InputError as error:
                self.assertRegex(str(error), r"^damaged\.wav .*\.$")

    @long_test
    def test_a_three_hour_file(self) -> None:
        path = self.folder / "long.wav"
        with AudioWriter(path, 2, RATE_HZ, "24") as writer:
            block = noise(2, 10.0).astype(np.float32)
            for _ in range(3 * 360):
                writer.add(block)
        taken = self.take(path)
        self.assertEqual(taken.frames, 3 * 3600 * RATE_HZ)


class Drawing(FolderTest):
    def test_peaks_at_every_zoom_are_those_of_the_samples(self) -> None:
        sound = noise(2, 3.0)
        path, peaks = self.write("a.wav", sound, subtype="FLOAT"), self.folder / "peaks.npy"
        measure_peaks(path, peaks)
        whole = np.rint(np.clip(sound, -1.0, 1.0).astype(np.float32) * 32767)
        for exponent in (0, 3, 7, 8, 9, 13, 20):
            each, found, number = 1 << exponent, [], 0
            while len(part := tile(path, peaks, exponent, number)) and number < 4:
                found.append(part)
                number += 1
            drawn = np.concatenate(found)
            for place in {0, len(drawn) // 3, len(drawn) // 2, len(drawn) - 1}:
                span = whole[:, place * each : (place + 1) * each]
                wanted = span.min(), span.max()
                self.assertEqual(tuple(drawn[place].tolist()), wanted, (exponent, place))
        self.assertEqual(len(tile(path, peaks, 8, 99)), 0)

    def test_a_time_reference_is_read_from_the_header(self) -> None:
        """EBU Tech 3285: 64 bits at byte 338 of the bext chunk, samples since midnight."""
        path = self.write("a.wav", noise(1, 0.1))
        self.assertIsNone(time_reference_samples(path))
        plain = path.read_bytes()
        counted = 36_000 * RATE_HZ + 17
        bext = bytes(338) + struct.pack("<Q", counted) + bytes(602 - 346)
        chunk = b"bext" + struct.pack("<I", len(bext)) + bext
        path.write_bytes(
            b"RIFF" + struct.pack("<I", len(plain) - 8 + len(chunk)) + b"WAVE" + chunk + plain[12:]
        )
        self.assertEqual(time_reference_samples(path), counted)
        self.assertEqual(soundfile.info(str(path)).frames, 4800)
        path.write_bytes(b"RIFF\x10\0\0\0WAVEbext\xff\0\0\0")
        self.assertIsNone(time_reference_samples(path))


class Writing(FolderTest):
    def test_small_files_are_plain_wav(self) -> None:
        with AudioWriter(self.folder / "a.wav", 2, RATE_HZ) as writer:
            writer.add(noise(2, 0.1).astype(np.float32))
        self.assertEqual((self.folder / "a.wav").read_bytes()[:4], b"RIFF")

    def test_nothing_is_seen_before_it_is_whole(self) -> None:
        with (
            self.assertRaises(RuntimeError),
            AudioWriter(self.folder / "a.wav", 1, RATE_HZ) as writer,
        ):
            writer.add(noise(1, 0.1).astype(np.float32))
            self.assertFalse((self.folder / "a.wav").exists())
            raise RuntimeError
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_reading_at_any_place(self) -> None:
        sound = noise(2, 0.1)
        reader = ClipReader(self.write("a.wav", sound))
        np.testing.assert_allclose(reader.read(100, 50), sound[:, 100:150], atol=1e-7)
        edge = reader.read(-10, 30)
        self.assertEqual(np.abs(edge[:, :10]).max(), 0.0)
        np.testing.assert_allclose(edge[:, 10:], sound[:, :20], atol=1e-7)
        self.assertEqual(np.abs(reader.read(4800, 10)).max(), 0.0)
        reader.close()

    @long_test
    def test_past_four_gigabytes(self) -> None:
        """EBU Tech 3306: RF64 with a ds64 chunk once 32-bit sizes no longer hold."""
        path = self.folder / "huge.wav"
        block = np.zeros((24, 1 << 18), dtype=np.float32)
        with AudioWriter(path, 24, RATE_HZ, "32f") as writer:
            for _ in range(172):
                writer.add(block)
        head = path.open("rb").read(24)
        self.assertEqual((head[:4], head[12:16]), (b"RF64", b"ds64"))
        self.assertGreater(struct.unpack("<I", head[16:20])[0], 0)
        self.assertEqual(probe(path).frames, 172 << 18)


class Documents(FolderTest):
    def test_a_document_comes_back_the_same(self) -> None:
        self.write("audio.wav", noise(1, 0.1))
        mix = self.mix(
            [
                {
                    "sound": "audio.wav",
                    "chain": [{"kind": "basics", "width": 0.5}],
                    "sends": [{"bus": "b"}],
                }
            ],
            buses=[{"id": "b", "name": "B", "layout": "0+5+0"}],
            automation=[{"target": "t0/sends/b/level_db", "points": [{"t_s": 0, "value": -3}]}],
        )
        path = self.folder / "a.mix.json"
        write(mix, path)
        self.assertNotIn(str(self.folder), path.read_text())
        self.assertEqual(read(path), mix)

    def test_refusals(self) -> None:
        path = self.folder / "a.mix.json"
        for text, words in (
            ("{", "cannot be read as JSON"),
            ("[]", 'its "format" must be'),
            ('{"format": "metaphon-mix", "version": 2}', "version: Input should be 1"),
            ('{"format": "metaphon-mix", "targets": ["9.1"]}', "no target '9.1'"),
            ('{"format": "metaphon-mix", "tracks": [{"id": "../x", "name": "x"}]}', "tracks/0/id"),
        ):
            path.write_text(text)
            with self.assertRaisesRegex(InputError, words):
                read(path)
        with self.assertRaisesRegex(InputError, "is not there; check the name"):
            read(self.folder / "none.mix.json")

    def test_the_schema_holds_for_the_example_of_the_format(self) -> None:
        import jsonschema

        example = {
            "format": "metaphon-mix",
            "version": 1,
            "title": "Example",
            "sample_rate_hz": 48000,
            "tracks": [
                {
                    "id": "gull",
                    "name": "Gull",
                    "clips": [{"file": "gull.wav", "start_s": 0.0}],
                    "chain": [
                        {
                            "kind": "basics",
                            "polarity_inverted": False,
                            "delay_ms": 0.0,
                            "width": 1.0,
                        }
                    ],
                    "sends": [{"bus": "cave", "level_db": -12.0, "tap": "post"}],
                    "output": "programme",
                    "placement": {"mode": "object", "azimuth_deg": 30.0, "elevation_deg": 20.0},
                }
            ],
            "buses": [
                {
                    "id": "cave",
                    "name": "Cave",
                    "chain": [{"kind": "network_reverb", "decay_s": 2.5}],
                }
            ],
            "automation": [
                {"target": "gull/placement/azimuth_deg", "points": [{"t_s": 0.0, "value": 30.0}]}
            ],
            "targets": ["0+2+0", "0+5+0", "4+7+0", "binaural", "scene3"],
        }
        validator = jsonschema.Draft202012Validator(schema())
        validator.validate(example)
        self.assertEqual(parse(example).tracks[0].placement.azimuth_deg, 30.0)
        example["tracks"][0]["placement"]["azimuth_deg"] = 400
        self.assertFalse(validator.is_valid(example))

    def test_recordings_of_another_rate_are_converted_for_a_render(self) -> None:
        self.write("a.wav", sine(1000, 0.5, -6, 44100), 44100)
        mix, notices = at_mix_rate(self.mix([{"sound": "a.wav"}]), self.folder)
        self.assertIn("44100 Hz", notices[0])
        self.assertAlmostEqual(self.rendered(mix, "0+1+0").shape[1], 24000, delta=1)


class Alignment(unittest.TestCase):
    def test_delay_and_polarity(self) -> None:
        """Knapp & Carter 1976; delays made by a phase ramp, found to 1/20 of a sample."""
        sound = noise(1, 2.0)[0]
        spectrum = np.fft.rfft(sound, 2 * len(sound))
        for samples, sign in ((0.0, 1), (33.6, -1), (-12.25, 1), (480.5, -1)):
            ramp = np.exp(-2j * np.pi * np.fft.rfftfreq(2 * len(sound)) * samples)
            other = sign * np.fft.irfft(spectrum * ramp)[: len(sound)]
            found = align(sound, other, RATE_HZ)
            self.assertAlmostEqual(found.delay_ms * 48, samples, delta=0.05)
            self.assertEqual(found.inverted, sign < 0)
            self.assertGreater(found.confidence, 0.6)

    def test_unrelated_and_silent(self) -> None:
        one, two = noise(2, 2.0)
        self.assertLess(align(one, two, RATE_HZ).confidence, 0.1)
        self.assertIsNone(align(one, 0 * two, RATE_HZ))
