"""What the simulated platform says of files, and what single channels tell of themselves."""

from typing import Any

import numpy as np

from metaphon.core.checks.acceptance import received
from metaphon.core.document.targets import target_named
from metaphon.core.engine.conformance import conformance
from metaphon.core.files.channel_labels import names_in
from metaphon.core.files.wave_chunks import add_chunks
from metaphon.core.measure.channels import ChannelMeter
from metaphon.core.measure.powers import pieces_of
from tests.sounds import RATE_HZ, FolderTest, files_of, noise, sine


class Received(FolderTest):
    def levelled(self, **form: Any) -> Any:
        self.write("a.wav", noise(2, 4.0, 3, 0.05))
        mix = self.mix([{"id": "a", "sound": "a.wav"}])
        given = {"level": "gain", "loudness_lufs": -23.0, **form}
        return files_of(mix, self.folder / "out", "0+2+0", **given)[0]

    def refused(self, path: Any, rules: str) -> list[str]:
        return [one.asked for one in received(path, path.name, rules).checks if not one.ok]

    def test_each_rule_refuses_what_breaks_it_alone(self) -> None:
        self.assertEqual(self.refused(self.levelled().path, "broadcast"), [])
        for form, asked in (
            ({"loudness_lufs": -20.0}, "−23.0 LUFS ± 0.5 LU"),
            ({"bits": "16"}, "48 kHz, 24 bit"),
            ({"rate_hz": 44100}, "48 kHz, 24 bit"),
            ({"container": "flac"}, "A broadcast extension (bext)"),
        ):
            with self.subTest(form):
                self.assertEqual(self.refused(self.levelled(**form).path, "broadcast"), [asked])

    def test_true_peaks_and_breaks_are_heard(self) -> None:
        loud = noise(2, 4.0, 3, 0.02)
        loud[:, 9000] = 0.999
        path = self.write("peak.wav", loud, subtype="PCM_24")
        self.assertIn("True peak at most −1.0 dBTP", self.refused(path, "streaming"))
        broken = np.tile(sine(440.0, 4.0, -12.0), (2, 1))
        broken[1, 31210:31700] = 0.0
        path = self.write("broken.wav", broken, subtype="PCM_24")
        told = {one.asked: one.found for one in received(path, path.name, "streaming").checks}
        self.assertEqual(told["No breaks in the sound"], "channel 2, first at 0.65 s")

    def test_what_is_no_sound_is_refused_in_words(self) -> None:
        path = self.folder / "text.wav"
        path.write_text("no sound")
        receipt = received(path, "text.wav", "broadcast")
        self.assertFalse(receipt.accepted)
        self.assertIn("text.wav", receipt.checks[0].found)
        plain = self.write("plain.wav", noise(13, 1.0), subtype="PCM_24")
        self.assertEqual(self.refused(plain, "immersive"), ["An audio definition"])


class ReadAgain(FolderTest):
    def test_a_file_is_what_it_says(self) -> None:
        self.write("a.wav", noise(6, 2.0))
        mix = self.mix([{"id": "a", "sound": "a.wav", "placement": {"layout": "0+5+0"}}])
        (result,) = files_of(mix, self.folder / "out", "0+5+0")
        five, loudness = target_named("0+5+0"), result.figures.integrated_lufs
        self.assertEqual(names_in(result.path), list(five.channel_labels))
        checks = conformance(result.path, five, RATE_HZ, "24", loudness)
        self.assertTrue(all(one.ok for one in checks), checks)
        seven = conformance(result.path, target_named("0+7+0"), RATE_HZ, "24", loudness)
        self.assertEqual([one.ok for one in seven], [False, False, True])
        off = conformance(result.path, five, RATE_HZ, "16", (loudness or 0.0) + 0.5)
        self.assertEqual([one.ok for one in off], [False, True, False])

    def test_names_in_another_order_are_seen(self) -> None:
        path = self.write("swapped.wav", noise(2, 1.0), subtype="PCM_24")
        tracks = "".join(
            f"<TRACK><INTERLEAVE_INDEX>{n}</INTERLEAVE_INDEX><NAME>{name}</NAME></TRACK>"
            for n, name in ((1, "M-030"), (2, "M+030"))
        )
        add_chunks(path, {b"iXML": f"<BWFXML><TRACK_LIST>{tracks}</TRACK_LIST></BWFXML>".encode()})
        names = conformance(path, target_named("0+2+0"), RATE_HZ, "24", None)[1]
        self.assertEqual((names.ok, names.found), (False, "M-030, M+030"))


class Channels(FolderTest):
    def test_level_offset_breaks_and_flat_tops_wherever_blocks_begin(self) -> None:
        sound = np.stack(
            [
                sine(500.0, 1.0, -6.0),
                np.zeros(RATE_HZ),
                sine(500.0, 1.0, -20.0) + 0.01,
                np.clip(sine(500.0, 1.0, 6.0), -1.0, 1.0),
            ]
        ).astype(np.float32)
        sound[0, 10013:10200] = 0.0
        sound[2, 20000:] = 0.0  # an end, not a break: it does not come back
        for size in (48000, 1024, 777):
            meter = ChannelMeter(4, RATE_HZ)
            for at in range(0, RATE_HZ, size):
                part = sound[:, at : at + size]
                meter.add(part, pieces_of(part))
            first, silent, offset, flat = meter.finish()
            self.assertAlmostEqual(first.peak_dbfs, -6.0, delta=0.05)
            self.assertEqual((first.breaks, first.broken_s), (1, round(10013 / RATE_HZ, 4)))
            self.assertTrue(silent.is_silent)
            self.assertEqual(offset.breaks, 0)
            self.assertAlmostEqual(
                offset.dc_offset, float(np.mean(sound[2].astype(float))), places=5
            )
            # 500 Hz are clipped twice a period
            self.assertAlmostEqual(flat.clipped_runs, 1000, delta=2)
