"""The command line and the demo: JSON out, one sentence and status 2 on wrong input."""

import contextlib
import io
import json
import shutil
import tempfile
import unittest
from pathlib import Path

import numpy as np
import soundfile

from metaphon.cli import main
from metaphon.core.checks.rules import check, mend
from metaphon.core.document.mix import schema
from metaphon.core.files.mixdoc import read
from tests.demo import demo_in
from tests.sounds import FolderTest, noise, sine


def command(*arguments: object) -> tuple[int, dict, str]:
    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        try:
            status = main([str(a) for a in arguments])
        except SystemExit as stop:
            status = int(stop.code or 0)
    return status, json.loads(out.getvalue() or "{}"), err.getvalue()


class Commands(FolderTest):
    def document(self, **rest: object) -> Path:
        path = self.folder / "a.mix.json"
        tracks = [{"id": "a", "name": "A", "clips": [{"file": "a.wav"}]}]
        path.write_text(
            json.dumps({"format": "metaphon-mix", "title": "A title", "tracks": tracks, **rest})
        )
        return path

    def test_render(self) -> None:
        self.write("a.wav", noise(2, 1.0))
        status, answer, _ = command(
            "render",
            self.document(),
            "--out",
            self.folder / "out",
            "--targets",
            "0+2+0,scene1",
            "--stems",
            "tracks",
            "--start",
            "0.25",
            "--end",
            "0.75",
            "--bits",
            "16",
        )
        self.assertEqual(status, 0)
        names = [Path(f["path"]).name for f in answer["files"]]
        self.assertEqual(
            names,
            [
                "A_title_0+2+0.wav",
                "A_title_scene1.wav",
                "A_title_stem_a_0+2+0.wav",
                "A_title_stem_a_scene1.wav",
            ],
        )
        self.assertEqual(answer["files"][0]["duration_s"], 0.5)
        self.assertEqual(soundfile.info(answer["files"][1]["path"]).channels, 4)
        self.assertIn("Integrated loudness", Path(answer["report"]).read_text())
        self.assertEqual(answer["findings"], [])

    def test_render_converts_with_a_notice(self) -> None:
        self.write("a.wav", noise(1, 0.5), 44100)
        status, answer, said = command(
            "render", self.document(), "--out", self.folder / "out", "--targets", "0+1+0"
        )
        self.assertEqual((status, answer["files"][0]["sample_rate_hz"]), (0, 48000))
        self.assertIn("44100 Hz and is now at 48000", said)

    def test_measure(self) -> None:
        path = self.write("tone.wav", np.stack([sine(1000, 5, -23)] * 2))
        status, answer, _ = command("measure", path)
        self.assertEqual(status, 0)
        self.assertAlmostEqual(answer["integrated_lufs"], -23.0, delta=0.1)
        self.assertAlmostEqual(answer["correlation"], 1.0, places=5)
        self.assertAlmostEqual(answer["true_peak_dbtp"], -23.0, delta=0.1)
        self.assertIsNone(
            command("measure", self.write("one.wav", noise(1, 1.0)))[1]["correlation"]
        )
        self.assertEqual(command("measure", path, "--layout", "0+5+0")[0], 2)

    def test_align(self) -> None:
        sound = noise(1, 1.0)[0]
        late = np.concatenate([np.zeros(48), -sound])[: len(sound)]
        answer = command("align", self.write("a.wav", sound), self.write("b.wav", late))[1]
        self.assertAlmostEqual(answer["delay_ms"], 1.0, places=3)
        self.assertEqual(answer["polarity"], "inverted")

    def test_phase(self) -> None:
        self.write("a.wav", noise(1, 0.2))
        chain = [{"kind": "basics", "delay_ms": 2.0, "polarity_inverted": True}]
        track = {"id": "a", "name": "A", "clips": [{"file": "a.wav"}], "chain": chain}
        status, answer, _ = command("phase", self.document(tracks=[track]), "a")
        self.assertEqual((status, answer["by"], answer["latency_samples"]), (0, "formula", 0))
        np.testing.assert_allclose(answer["group_delay_ms"], 2.0, atol=0.001)
        np.testing.assert_allclose(answer["magnitude_db"], 0.0, atol=0.001)
        lowest = answer["phase_deg"][0], answer["frequencies_hz"][0]
        self.assertAlmostEqual(lowest[0], 180.0 - 0.72 * lowest[1], delta=0.01)
        self.assertEqual(command("phase", self.document(tracks=[track]), "none")[0], 2)

    def test_wrong_input_is_one_sentence_and_status_2(self) -> None:
        text = self.folder / "notes.wav"
        text.write_text("words")
        self.write("a.wav", noise(1, 0.2))
        out = self.folder / "out"
        for arguments in (
            ("render", self.folder / "none.mix.json", "--out", out),
            ("render", self.document(), "--out", out, "--targets", "5.1"),
            ("render", self.document(), "--out", out, "--start", "9"),
            ("render", self.document(), "--out", out, "--format", "flac", "--bits", "32f"),
            ("render", self.document(), "--out", text),
            (
                "render",
                self.document(tracks=[{"id": "a", "name": "A", "clips": [{"file": "gone.wav"}]}]),
                "--out",
                out,
            ),
            ("render", self.document(tracks=[]), "--out", out),
            ("measure", text),
            ("measure", self.folder),
            ("check", text),
            ("nonsense",),
            ("render",),
        ):
            status, answer, said = command(*arguments)
            self.assertEqual((status, answer), (2, {}), arguments)
            self.assertEqual(len(said.strip().splitlines()), 1, said)
            self.assertRegex(said, r"^[A-Z/a-z].*\.\n$")
            self.assertNotIn("Traceback", said)

    def test_what_cannot_be_is_said_in_a_sentence(self) -> None:
        self.write("a.wav", noise(1, 0.2))
        self.write("nan.wav", np.full((1, 4800), np.nan))
        track = {"id": "a", "name": "A", "clips": [{"file": "a.wav"}]}
        document = {"format": "metaphon-mix", "title": "é" * 120, "tracks": [track]}
        wrong = document | {"tracks": [{**track, "chain": [{"kind": "magic"}]}]}
        path, other = self.folder / "a.mix.json", self.folder / "b.mix.json"
        path.write_text(json.dumps(document))
        other.write_text(json.dumps(wrong))
        out = ("--out", self.folder / "out")
        for arguments, words in (
            (("render", other, *out), "there is no processor 'magic'; known are all_pass, "),
            (("render", path, *out, "--start", "nan"), "nan is no time; give seconds from 0 on"),
            (("render", path, *out, "--end", "-1"), "-1.0 is no time|-1 is no time"),
            (("render", path, "--out", path), "cannot be used"),
            (("measure", self.folder / "nan.wav"), "samples that are not numbers"),
        ):
            status, answer, said = command(*arguments)
            self.assertEqual((status, answer), (2, {}), arguments)
            self.assertRegex(said, words)
            self.assertEqual(said.count("\n"), 1, said)
        status, answer, _ = command("render", path, *out, "--targets", "0+2+0,binaural")
        self.assertEqual(status, 0)  # file systems count a name in bytes
        self.assertEqual(len(list((self.folder / "out").glob("*.wav"))), 2)

    def test_schema(self) -> None:
        wanted = json.loads(json.dumps(schema()))
        self.assertEqual(command("schema")[1], wanted, "write it anew: -m metaphon.core.schemas")


class Demo(unittest.TestCase):
    """The demo's faults are all found, and nothing is found in the clean mix."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.folder = Path(tempfile.mkdtemp())
        cls.addClassCleanup(shutil.rmtree, cls.folder, True)
        cls.lamp, cls.quiet, cls.empty = demo_in(cls.folder)

    def test_faults(self) -> None:
        found = {(finding.rule, finding.subject) for finding in check(read(self.lamp))}
        self.assertEqual(
            found,
            {
                ("bus_without_input", "boats"),
                ("heard_twice", "hand_bells"),
                ("too_wide", "hand_bells"),
                ("opposed_polarity", "buoy_far"),
                ("late", "buoy_far"),
            },
        )

    def test_clean_and_empty(self) -> None:
        self.assertEqual(check(read(self.quiet)), [])
        self.assertEqual(check(read(self.empty)), [])

    def test_mending_what_was_found_ends_the_findings(self) -> None:
        document = json.loads(self.lamp.read_text())
        tracks = {track["id"]: track for track in document["tracks"]}
        tracks["buoy_far"]["chain"] = [{"kind": "basics", "polarity_inverted": True}]
        tracks["buoy_near"]["chain"] = [{"kind": "basics", "delay_ms": 0.71}]
        tracks["hand_bells"]["chain"] = [{"kind": "basics", "width": 0.6}]
        tracks["hand_bells"]["sends"] = tracks["hand_bells"]["sends"][1:]
        document["buses"] = [bus for bus in document["buses"] if bus["id"] != "boats"]
        mended = self.folder / "mended.mix.json"
        mended.write_text(json.dumps(document))
        self.assertEqual(check(read(mended)), [])

    def test_what_feeds_a_bus_and_is_sent_to_it_too_is_heard_twice(self) -> None:
        document = json.loads(self.lamp.read_text())
        tracks = {track["id"]: track for track in document["tracks"]}
        tracks["harmonium"]["sends"].append({"bus": "instruments", "level_db": -6.0})
        tracks["drum_one"]["sends"].append({"bus": "instruments", "muted": True})
        path = self.folder / "sent.mix.json"
        path.write_text(json.dumps(document))
        found = {one.subject: one for one in check(read(path)) if one.rule == "heard_twice"}
        self.assertEqual(found.keys(), {"hand_bells", "harmonium"})
        self.assertIn("feeds Instruments and is sent to it as well", found["harmonium"].message)
        mended = mend(read(path), found["harmonium"]).apply(read(path))
        self.assertNotIn("instruments", [send.bus for send in mended.find_strip("harmonium").sends])
        self.assertEqual(mended.find_strip("harmonium").output, "instruments")

    def test_it_is_pleasant_in_level(self) -> None:
        out = self.folder / "out"
        status, answer, _ = command(
            "render", self.lamp, "--out", out, "--targets", "0+2+0,0+5+0,binaural"
        )
        self.assertEqual(status, 0)
        for file in answer["files"]:
            self.assertTrue(-27 < file["integrated_lufs"] < -18)
            self.assertLess(file["true_peak_dbtp"], -1.0)
            self.assertEqual(file["clipped_samples"], 0)
        stereo = answer["files"][0]
        self.assertTrue(60 <= stereo["duration_s"] < 66)
        self.assertGreater(stereo["correlation"], 0)
