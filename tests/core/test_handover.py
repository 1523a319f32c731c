"""A handover: parts that add up, levels and ceilings, rates, names."""

import struct
import unittest
from typing import Any
from xml.etree import ElementTree

import numpy as np
import soundfile
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.signal import butter, resample_poly, sosfilt

from metaphon.core.document.handover import Handover, asked
from metaphon.core.engine.making import Result
from metaphon.core.engine.naming import Names
from metaphon.core.engine.offline import render_to_files, runs_of
from metaphon.core.engine.stems import stems_of
from metaphon.core.errors import InputError
from metaphon.core.files.broadcast_wave import time_reference_samples
from metaphon.core.files.wave_chunks import chunk
from metaphon.core.measure.peaks import PeakMeter
from metaphon.core.measure.powers import pieces_of
from metaphon.core.process.limiter import Limiter
from tests.sounds import RATE_HZ, FolderTest, noise, sine

OBJECT = {"mode": "object", "azimuth_deg": 60.0}


class HandoverTest(FolderTest):
    def handed_over(self, mix: Any, *targets: str, **more: Any) -> list[Result]:
        wanted = Handover(targets=targets, **more)
        span = wanted.start_s, wanted.end_s
        runs = runs_of(mix, wanted)
        return render_to_files(runs, self.folder / "out", wanted, Names("Test"), span_s=span)[0]

    def read(self, result: Result) -> np.ndarray:
        return soundfile.read(str(result.path), always_2d=True)[0].T


class Stems(HandoverTest):
    def routed(self) -> Any:
        """Tracks on a bus and on none, sends before and after faders, a return into another."""
        for number, name in enumerate(("a", "b", "c")):
            self.write(f"{name}.wav", noise(1 + number % 2, 0.6, number))
        room = {"kind": "network_reverb", "decay_s": 0.4}
        buses = [
            {"id": "hall", "name": "Hall", "chain": [room], "sends": [{"bus": "cave"}]},
            {"id": "cave", "name": "Cave", "chain": [room], "placement": OBJECT},
            {
                "id": "group",
                "name": "Group",
                "sends": [{"bus": "cave", "level_db": -6.0}],
                "chain": [{"kind": "eq", "bands": [{"gain_db": 6.0}]}],
            },
        ]
        tracks = [
            {"sound": "a.wav", "sends": [{"bus": "hall"}], "placement": OBJECT, "group": "few"},
            {"sound": "b.wav", "output": "group", "lfe": {"on": True}},
            {"sound": "c.wav", "output": "group", "sends": [{"bus": "cave", "tap": "pre"}]},
        ]
        lanes = [
            {
                "target": target,
                "points": [{"t_s": 0.0, "value": 0.0}, {"t_s": 0.5, "value": -30.0}],
            }
            for target in ("t0/sends/hall/level_db", "group/gain_db", "hall/sends/cave/level_db")
        ]
        groups = [{"id": "few", "name": "Few"}]
        return self.mix(tracks, buses=buses, automation=lanes, groups=groups)

    def test_any_set_of_them_is_the_mix(self) -> None:
        mix = self.routed()
        wanted = {
            ("tracks", "shared"): ["t0", "t1", "t2"],
            ("tracks", "apart"): ["t0", "t1", "t2", "return_hall", "return_cave"],
            ("buses", "shared"): ["direct", "bus_group"],
            ("buses", "apart"): ["direct", "bus_group", "return_hall", "return_cave"],
            ("placements", "shared"): ["objects", "beds"],
            ("groups", "shared"): ["group_few", "ungrouped"],
        }
        for target in ("0+5+0", "binaural"):
            whole = self.rendered(mix, target)
            for (kind, rooms), words in wanted.items():
                with self.subTest(target=target, kind=kind, rooms=rooms):
                    stems = stems_of(mix, kind, rooms)
                    self.assertEqual([stem.word for stem in stems], words)
                    parts = [self.rendered(stem.mix, target, last=whole.shape[1]) for stem in stems]
                    total = sum(
                        np.pad(part, ((0, 0), (0, whole.shape[1] - part.shape[1])))
                        for part in parts
                    )
                    worst = np.abs(total - whole).max() / np.abs(whole).max()
                    self.assertLess(20 * np.log10(worst), -90.0)

    def test_what_is_dry_has_nothing_of_the_rooms(self) -> None:
        mix = self.routed()
        dry = next(s for s in stems_of(mix, "tracks", "apart") if s.word == "t0")
        sound = self.rendered(dry.mix, "0+2+0", last=RATE_HZ)
        self.assertEqual(np.abs(sound[:, round(0.61 * RATE_HZ) :]).max(initial=0.0), 0.0)

    def test_what_is_muted_or_not_soloed_is_no_part(self) -> None:
        self.write("a.wav", noise(1, 0.2))
        mix = self.mix([{"sound": "a.wav", "muted": True}, {"sound": "a.wav"}])
        self.assertEqual([stem.word for stem in stems_of(mix, "tracks")], ["t1"])
        mix = self.mix([{"sound": "a.wav", "soloed": True}, {"sound": "a.wav"}])
        self.assertEqual([stem.word for stem in stems_of(mix, "tracks")], ["t0"])

    def test_buses_and_groups_as_wide_as_they_are(self) -> None:
        """Closed form: the sum of the sounds by their gains, placed nowhere."""
        mono, pair, other = noise(1, 0.3, 1), noise(2, 0.3, 2), noise(2, 0.3, 3)
        for name, sound in (("a", mono), ("b", pair), ("c", other)):
            self.write(f"{name}.wav", sound)
        away = {"mode": "object", "azimuth_deg": 90.0}
        mix = self.mix(
            [
                {"sound": "b.wav", "output": "pier", "gain_db": -6.0, "group": "g"},
                {"sound": "c.wav", "output": "pier", "group": "g"},
                {"sound": "a.wav", "placement": away},
                {"sound": "a.wav", "muted": True, "group": "g"},
            ],
            buses=[
                {"id": "pier", "name": "Pier", "layout": "0+2+0", "gain_db": -2.0},
                {"id": "idle", "name": "Idle", "layout": "0+2+0"},
            ],
            groups=[{"id": "g", "name": "Bells"}],
        )
        half, less = 10 ** (-6 / 20), 10 ** (-2 / 20)
        for kind, wanted in (
            ("buses", {"stem_bus_pier_dry_0+2+0": (half * pair + other) * less}),
            (
                "groups",
                {"stem_group_g_dry_0+2+0": half * pair + other, "stem_ungrouped_dry_0+1+0": mono},
            ),
        ):
            results = self.handed_over(mix, "0+2+0", stems={kind: ["own"]}, bits="32f")
            found = {one.path.stem.removeprefix("Test_"): one for one in results[1:]}
            self.assertEqual(list(found), list(wanted))
            for name, sound in wanted.items():
                got = self.read(found[name])[:, : sound.shape[1]]
                np.testing.assert_allclose(got, sound, atol=2e-6, err_msg=name)

    def test_tracks_as_wide_as_they_are_after_their_faders(self) -> None:
        self.write("a.wav", noise(1, 0.3, 1))
        self.write("b.wav", noise(2, 0.3, 2))
        tracks = [{"sound": "a.wav", "placement": OBJECT, "gain_db": -6.0}, {"sound": "b.wav"}]
        results = self.handed_over(
            self.mix(tracks), "binaural", stems={"tracks": ["own"]}, bits="32f"
        )
        names = [result.path.name for result in results]
        self.assertEqual(
            names, ["Test_binaural.wav", "Test_stem_t0_dry_0+1+0.wav", "Test_stem_t1_dry_0+2+0.wav"]
        )
        own = noise(1, 0.3, 1) * 10 ** (-6 / 20)
        for result, sound in zip(results[1:], (own, noise(2, 0.3, 2)), strict=True):
            got, frames = self.read(result), sound.shape[1]
            np.testing.assert_allclose(got[:, :frames], sound, atol=1e-6)
            self.assertFalse(got[:, frames:].any())  # as long as headphones sound on

    def test_parts_go_by_the_level_of_the_mix(self) -> None:
        self.write("a.wav", noise(1, 2.0, 1))
        self.write("b.wav", noise(1, 2.0, 2, level=0.01))
        mix = self.mix([{"sound": "a.wav"}, {"sound": "b.wav"}])
        more = {"level": "gain", "loudness_lufs": -30.0, "bits": "32f"}
        whole, *parts = self.handed_over(mix, "0+2+0", stems={"tracks": ["0+2+0"]}, **more)
        self.assertAlmostEqual(whole.figures.integrated_lufs, -30.0, places=2)
        self.assertEqual({part.gain_db for part in parts}, {whole.gain_db})
        total = sum(self.read(part) for part in parts)
        np.testing.assert_allclose(total, self.read(whole), atol=1e-6)


class Forms(HandoverTest):
    def one(self, sound: np.ndarray) -> Any:
        self.write("a.wav", sound)
        return self.mix([{"sound": "a.wav"}])

    def test_a_rate_of_its_own_keeps_length_pitch_and_level(self) -> None:
        mix = self.one(sine(997.0, 1.0, -20.0))
        for rate_hz in (44100, 96000):
            (result,) = self.handed_over(mix, "0+1+0", rate_hz=rate_hz, bits="32f")
            sound = self.read(result)[0]
            self.assertEqual(len(sound), rate_hz)
            wanted = sine(997.0, 1.0, -20.0, rate_hz)
            middle = slice(2000, -2000)
            np.testing.assert_allclose(sound[middle], wanted[middle], atol=2e-5)

    def test_silence_round_it_and_a_span_of_it(self) -> None:
        mix = self.one(noise(1, 1.0))
        (plain,) = self.handed_over(mix, "0+1+0", bits="32f")
        whole = self.read(plain)[0]
        span = {"start_s": 0.25, "end_s": 0.5, "lead_s": 1.0, "tail_s": 0.5}
        (result,) = self.handed_over(mix, "0+1+0", bits="32f", **span)
        sound = self.read(result)[0]
        self.assertEqual(len(sound), round(1.75 * RATE_HZ))
        self.assertEqual(np.abs(sound[:RATE_HZ]).max(), 0.0)
        self.assertEqual(np.abs(sound[-RATE_HZ // 2 :]).max(), 0.0)
        part = whole[RATE_HZ // 4 : RATE_HZ // 2]
        np.testing.assert_allclose(sound[RATE_HZ : -RATE_HZ // 2], part, atol=1e-6)

    def test_gain_alone_stops_at_the_ceiling_and_a_limiter_gets_there(self) -> None:
        sound = noise(1, 3.0, level=0.02)
        sound[0, 50000] = 0.9
        mix = self.one(sound)
        more = {"loudness_lufs": -20.0, "ceiling_dbtp": -2.0, "bits": "32f"}
        (gained,) = self.handed_over(mix, "0+1+0", level="gain", **more)
        self.assertAlmostEqual(gained.figures.true_peak_dbtp, -2.0, places=2)
        self.assertLess(gained.figures.integrated_lufs, -25.0)
        (limited,) = self.handed_over(mix, "0+1+0", level="limiter", **more)
        self.assertAlmostEqual(limited.figures.integrated_lufs, -20.0, delta=0.1)
        self.assertLessEqual(limited.figures.true_peak_dbtp, -2.0)
        self.assertGreater(limited.reduction_db, 6.0)
        self.assertEqual(self.read(limited).shape, self.read(gained).shape)

    def test_what_cannot_be_is_said_in_a_sentence(self) -> None:
        for given_, words in (
            ({"targets": []}, "^No target is chosen; choose at least one format to render.$"),
            ({"targets": ["0+2+0"], "container": "flac", "bits": "32f"}, "FLAC holds 16 or 24"),
            ({"targets": ["0+2+0"], "name": "{title}"}, "A name needs {target} and {stem}"),
            ({"targets": ["0+2+0"], "name": "{x}{stem}{target}"}, "{x} is not known; use title"),
            ({"targets": ["0+2+0"], "rate_hz": 12345}, "Files may be at 44100, 48000"),
            ({"targets": ["0+2+0"], "start_s": 3.0, "end_s": 2.0}, "It ends before it begins"),
            ({"stems": {"placements": ["own"]}}, "What is placed alike has no width of its own"),
            ({"targets": ["0+2+0"], "lead_s": -1.0}, "Silence in front should be greater than"),
        ):
            with self.subTest(words), self.assertRaisesRegex(InputError, words):
                asked(given_)


class Limited(unittest.TestCase):
    @settings(max_examples=25, deadline=None)
    @given(st.data())
    def test_no_true_peak_gets_above_the_ceiling(self, data: st.DataObject) -> None:
        """ITU-R BS.1770-5, annex 2, by the meter, and by a general-purpose resampler at 8 times."""
        chance = np.random.default_rng(data.draw(st.integers(0, 1000)))
        channels = data.draw(st.sampled_from([1, 2, 6]))
        frames = 1024 * data.draw(st.sampled_from([4, 12]))
        # what lies above 20 kHz no two meters find alike
        audible = butter(10, 19000.0, fs=48000, output="sos")
        sound = sosfilt(audible, chance.normal(0.0, 0.3, (channels, frames)))
        if data.draw(st.booleans()):
            tone = np.sin(
                2 * np.pi * data.draw(st.floats(50.0, 15000.0)) / 48000 * np.arange(frames)
            )
            sound = 0.1 * sound + tone
        sound *= data.draw(st.floats(0.1, 10.0)) * np.hanning(frames)
        limiter = Limiter(
            ceiling_dbtp=data.draw(st.floats(-24.0, 0.0)),
            drive_db=data.draw(st.floats(-12.0, 24.0)),
            release_ms=data.draw(st.floats(10.0, 3000.0)),
        )
        late = limiter.latency_samples(48000)
        padded = np.pad(sound, ((0, 0), (0, 2048))).astype(np.float32)
        out = limiter.apply(padded, 48000)[:, late:]
        meter = PeakMeter(channels, 48000)
        meter.add(out, pieces_of(out))
        meter.finish()
        finer = resample_poly(out.astype(float), 8, 1, axis=1)
        ceiling = 10 ** (limiter.ceiling_dbtp / 20)
        self.assertLessEqual(meter.true_peak.max(), ceiling * 1.0005)
        self.assertLessEqual(np.abs(finer).max(), ceiling * 1.012)

    def test_what_stays_below_is_not_touched_and_channels_move_together(self) -> None:
        limiter = Limiter(ceiling_dbtp=-3.0)
        late = limiter.latency_samples(48000)
        soft = noise(2, 0.5, level=0.02).astype(np.float32)[:, : 20 * 1024]
        np.testing.assert_array_equal(limiter.apply(soft, 48000)[:, late:], soft[:, :-late])
        loud = np.stack([sine(400.0, 0.5, 3.0), 0.1 * sine(400.0, 0.5, 3.0)])[:, : 20 * 1024]
        out = limiter.apply(loud.astype(np.float32), 48000)
        np.testing.assert_allclose(out[1], 0.1 * out[0], atol=1e-6)

    def test_a_kept_ceiling_costs_no_more_level_than_it_must(self) -> None:
        limiter = Limiter(ceiling_dbtp=-6.0)
        out = limiter.apply(sine(300.0, 1.0, 0.0)[None, : 40 * 1024].astype(np.float32), 48000)
        held = 20 * np.log10(np.abs(out[0, 10000:]).max())
        self.assertAlmostEqual(held, -6.0, delta=0.15)


class Described(HandoverTest):
    def test_a_wave_file_says_when_it_begins_how_loud_it_is_and_what_its_channels_are(self) -> None:
        """EBU Tech 3285, version 2: places of the fields; iXML by its element names."""
        self.write("a.wav", noise(2, 2.0))
        mix = self.mix([{"sound": "a.wav"}])
        (result,) = self.handed_over(mix, "0+5+0", start_s=0.5)
        self.assertEqual(time_reference_samples(result.path), 24000)
        bext = chunk(result.path, b"bext")
        assert bext
        self.assertEqual(struct.unpack("<H", bext[346:348])[0], 2)
        loudness, _, peak = struct.unpack("<3h", bext[412:418])
        self.assertEqual(loudness, round(100 * (result.figures.integrated_lufs or 0.0)))
        self.assertEqual(peak, round(100 * (result.figures.true_peak_dbtp or 0.0)))
        self.assertIn(b"A=PCM,F=48000,W=24", bext[602:])
        names = ElementTree.fromstring(chunk(result.path, b"iXML") or b"")
        labels = [name.text for name in names.iter("NAME")]
        self.assertEqual(labels, list(result.output.target.channel_labels))
        self.assertEqual(soundfile.info(str(result.path)).frames, round(1.5 * RATE_HZ))

    def test_libsndfile_reads_the_extension(self) -> None:
        self.write("a.wav", noise(2, 1.0))
        (result,) = self.handed_over(self.mix([{"sound": "a.wav"}]), "0+2+0")
        self.assertIn("bext", soundfile.SoundFile(str(result.path)).extra_info)
