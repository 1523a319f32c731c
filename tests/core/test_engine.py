"""From documents to samples.

Where sound goes, that it is the same however it is cut, and what is refused.
"""

import unittest
from importlib.resources import files

import numpy as np
import soundfile
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from metaphon.core.document.handover import FileForm
from metaphon.core.document.targets import target_named
from metaphon.core.engine.automation import GRID_FRAMES
from metaphon.core.engine.making import Run
from metaphon.core.engine.naming import Names
from metaphon.core.engine.offline import Cancelled, Progress, render_to_files
from metaphon.core.engine.plan import compile
from metaphon.core.engine.render import Output, render
from metaphon.core.errors import InputError
from metaphon.core.spatial.head import SHIPPED, load_head
from tests.sounds import RATE_HZ, FolderTest, files_of, noise, outputs_of, sine

OBJECT = {"mode": "object", "azimuth_deg": 0.0}


def power(sound: np.ndarray) -> np.ndarray:
    return np.sqrt(np.mean(np.square(sound, dtype=float), axis=-1))


class WhereSoundGoes(FolderTest):
    def test_three_recordings_reach_their_loudspeakers_and_no_lfe(self) -> None:
        """Recordings at azimuth 30, -110 and 0 come out of M+030, M-110 and M+000 of 0+5+0, sample
        for sample.
        """
        voices = files("metaphon.core.demo") / "voices"
        spoken = [soundfile.read(str(voices / f"narrator_{n}.flac"))[0] for n in ("en", "nb")]
        spoken.append(spoken[0][::-1] * 0.5)
        for mode in ("object", "bed"):
            tracks = []
            for number, (azimuth, sound) in enumerate(
                zip((30.0, -110.0, 0.0), spoken, strict=True)
            ):
                self.write(f"voice{number}.wav", sound)
                tracks.append(
                    {
                        "sound": f"voice{number}.wav",
                        "placement": {"mode": mode, "azimuth_deg": azimuth},
                    }
                )
            out = self.rendered(self.mix(tracks), "0+5+0")
            for channel, sound in zip((0, 5, 2), spoken, strict=True):
                np.testing.assert_allclose(out[channel, : len(sound)], sound, atol=1e-6)
            for channel in (1, 3, 4):
                self.assertEqual(np.abs(out[channel]).max(), 0.0)

    def test_a_5_1_bed_passes_untouched_and_folds_by_the_table(self) -> None:
        """ITU-R BS.775-4: L + 0.7071 C + 0.7071 Ls."""
        sound = noise(6, 0.5)
        self.write("rain.wav", sound)
        mix = self.mix([{"sound": "rain.wav", "placement": {"mode": "bed", "layout": "0+5+0"}}])
        np.testing.assert_allclose(self.rendered(mix, "0+5+0"), sound, atol=1e-6)
        left = sound[0] + np.sqrt(0.5) * (sound[2] + sound[4])
        np.testing.assert_allclose(self.rendered(mix, "0+2+0")[0], left, atol=1e-6)

    def test_a_scene_passes_untouched_and_is_cut_to_a_lower_order(self) -> None:
        sound = noise(16, 0.3)
        self.write("sea.wav", sound)
        mix = self.mix([{"sound": "sea.wav", "placement": {"mode": "scene"}}])
        np.testing.assert_allclose(self.rendered(mix, "scene3"), sound, atol=1e-6)
        np.testing.assert_allclose(self.rendered(mix, "scene1"), sound[:4], atol=1e-6)

    def test_an_object_in_a_scene_is_its_harmonics(self) -> None:
        sound = noise(1, 0.3)
        self.write("gull.wav", sound)
        mix = self.mix([{"sound": "gull.wav", "placement": {**OBJECT, "azimuth_deg": 90.0}}])
        out = self.rendered(mix, "scene1")
        np.testing.assert_allclose(out, [sound[0], sound[0], 0 * sound[0], 0 * sound[0]], atol=1e-6)

    def test_binaural_is_louder_and_earlier_at_the_near_ear(self) -> None:
        click = np.zeros(4800)
        click[1000] = 0.5
        self.write("click.wav", click)
        left, right = self.rendered(
            self.mix([{"sound": "click.wav", "placement": {**OBJECT, "azimuth_deg": 90.0}}]),
            "binaural",
        )
        self.assertLess(np.argmax(np.abs(left)), np.argmax(np.abs(right)))
        self.assertGreater(power(left), 2 * power(right))

    def test_binaural_of_a_bed_is_its_loudspeakers_round_the_head(self) -> None:
        sound = noise(1, 0.5)
        self.write("a.wav", sound)
        five = np.zeros((6, sound.shape[1]))
        five[4] = sound[0]
        self.write("b.wav", five)
        bed = self.rendered(self.mix([{"sound": "b.wav"}]), "binaural")
        single = self.rendered(
            self.mix([{"sound": "a.wav", "placement": {**OBJECT, "azimuth_deg": 110.0}}]),
            "binaural",
        )
        np.testing.assert_allclose(bed, single, atol=1e-6)

    def test_clip_start_and_gain(self) -> None:
        sound = noise(1, 0.2)
        self.write("a.wav", sound)
        out = self.rendered(
            self.mix([{"sound": "a.wav", "start_s": 0.25, "gain_db": -6.0}]), "0+5+0"
        )
        self.assertEqual(np.abs(out[:, :12000]).max(), 0.0)
        np.testing.assert_allclose(out[2, 12000:], sound[0] * 10 ** (-6 / 20), atol=1e-6)

    def test_muted_resting_and_unrouted_tracks_are_silent(self) -> None:
        self.write("a.wav", noise(1, 0.2))
        base = {"sound": "a.wav", "sends": [{"bus": "b", "tap": "pre"}]}
        buses = [{"id": "b", "name": "B"}]
        loud = self.rendered(self.mix([base], buses=buses), "0+2+0")
        self.assertGreater(np.abs(loud).max(), 0.01)
        silent = [{**base, "muted": True}, {**base, "resting": True}]
        out = self.rendered(
            self.mix([{"sound": "a.wav", "output": None}, *silent], buses=buses), "0+2+0"
        )
        self.assertEqual(np.abs(out).max(), 0.0)


class SendsAndBuses(FolderTest):
    def build(self, tap: str, gain_db: float) -> float:
        self.write("a.wav", noise(1, 0.2))
        send = {"bus": "b", "level_db": -6.0, "tap": tap}
        track = {"sound": "a.wav", "gain_db": gain_db, "output": None, "sends": [send]}
        return float(
            power(self.rendered(self.mix([track], buses=[{"id": "b", "name": "B"}]), "0+2+0")[0])
        )

    def test_a_post_fader_send_follows_the_fader_and_a_pre_fader_one_does_not(self) -> None:
        """Common practice, no source."""
        self.assertAlmostEqual(self.build("post", -20.0) / self.build("post", 0.0), 0.1, places=4)
        self.assertAlmostEqual(self.build("pre", -20.0) / self.build("pre", 0.0), 1.0, places=6)
        self.assertEqual(self.build("post", -120.0), 0.0)

    def test_order_comes_from_the_graph_not_from_the_list(self) -> None:
        sound = noise(2, 0.2)
        self.write("a.wav", sound)
        buses = [
            {"id": "last", "name": "Last", "gain_db": -6.0},
            {"id": "first", "name": "First", "output": "last"},
        ]
        out = self.rendered(self.mix([{"sound": "a.wav", "output": "first"}], buses=buses), "0+2+0")
        np.testing.assert_allclose(out, sound * 10 ** (-6 / 20), atol=1e-6)

    def test_a_loop_is_refused_by_name(self) -> None:
        self.write("a.wav", noise(1, 0.1))
        buses = [
            {"id": "x", "name": "Cave", "output": "y"},
            {"id": "y", "name": "Hall", "output": "x"},
        ]
        with self.assertRaisesRegex(
            InputError, "loop, (Cave to Hall to Cave|Hall to Cave to Hall)"
        ):
            compile(self.mix([{"sound": "a.wav", "output": "x"}], buses=buses))


class Automation(FolderTest):
    def test_a_fade_is_straight_in_db_and_never_jumps(self) -> None:
        self.write("a.wav", np.full(RATE_HZ, 0.5))
        lane = {
            "target": "t0/gain_db",
            "points": [{"t_s": 0.0, "value": 0.0}, {"t_s": 0.5, "value": -40.0}],
        }
        out = self.rendered(self.mix([{"sound": "a.wav"}], automation=[lane]), "0+1+0")[0]
        self.assertAlmostEqual(float(out[12000]), 0.5 * 10 ** (-20 / 20), delta=0.002)
        self.assertAlmostEqual(float(out[-1]), 0.5 * 10 ** (-40 / 20), places=5)
        self.assertLess(np.abs(np.diff(out)).max(), 0.5 * (1 - 10 ** (-80 / 20 / RATE_HZ * 1.3)))

    def test_a_moving_object_passes_through_the_loudspeakers(self) -> None:
        self.write("a.wav", np.full(2 * RATE_HZ, 0.5))
        points = [{"t_s": 0.0, "value": 30.0}, {"t_s": 2.0, "value": -30.0}]
        lane = {"target": "t0/placement/azimuth_deg", "points": points}
        out = self.rendered(
            self.mix([{"sound": "a.wav", "placement": OBJECT}], automation=[lane]), "0+5+0"
        )
        self.assertAlmostEqual(float(out[0, 0]), 0.5, places=4)
        self.assertAlmostEqual(float(out[2, RATE_HZ]), 0.5, delta=0.001)
        self.assertLess(np.abs(np.diff(out)).max(), 0.001)

    def test_unknown_targets_are_refused(self) -> None:
        for target, words in (
            ("ghost/gain_db", "ghost, which is not in"),
            ("t0/chain", "moves nothing that can move"),
        ):
            with self.assertRaisesRegex(InputError, words):
                self.mix([{}], automation=[{"target": target, "points": [{"t_s": 0, "value": 0}]}])


class TheSameSamples(FolderTest):
    """The same mix gives the same samples, however it is cut."""

    def busy_mix(self):  # type: ignore[no-untyped-def]
        self.write("mono.wav", noise(1, 1.3, 1))
        self.write("pair.wav", noise(2, 1.0, 2))
        self.write("scene.wav", noise(4, 1.1, 3))
        tracks = [
            {
                "id": "m",
                "sound": "mono.wav",
                "placement": {**OBJECT, "extent_deg": 20.0},
                "sends": [{"bus": "cave"}],
            },
            {
                "id": "p",
                "sound": "pair.wav",
                "start_s": 0.2,
                "chain": [{"kind": "basics", "delay_ms": 3.0, "width": 1.4}],
            },
            {"id": "s", "sound": "scene.wav", "placement": {"mode": "scene"}},
        ]
        lane = {
            "target": "m/placement/azimuth_deg",
            "points": [{"t_s": 0, "value": 0}, {"t_s": 1, "value": 90}],
        }
        cave = {"id": "cave", "name": "Cave", "chain": [{"kind": "network_reverb", "decay_s": 0.4}]}
        return self.mix(tracks, automation=[lane], buses=[cave])

    def test_for_any_block_size(self) -> None:
        mix = self.busy_mix()
        for target in ("0+2+0", "4+7+0", "binaural", "scene3"):
            wanted = self.rendered(mix, target)
            for grid_steps in (1, 3, 64):
                got = self.rendered(mix, target, grid_steps * GRID_FRAMES)
                np.testing.assert_allclose(got, wanted, atol=1e-6)

    def test_to_the_bit_when_rendered_again(self) -> None:
        mix = self.busy_mix()
        for target in ("0+5+0", "binaural"):
            self.assertTrue(np.array_equal(self.rendered(mix, target), self.rendered(mix, target)))

    def test_a_span_is_cut_out_of_the_whole(self) -> None:
        mix = self.busy_mix()
        for target in ("0+5+0", "binaural"):
            whole = self.rendered(mix, target)
            part = self.rendered(mix, target, first=30000, last=41234)
            np.testing.assert_allclose(part, whole[:, 30000:41234], atol=2e-6)

    def test_one_pass_gives_what_single_passes_give(self) -> None:
        mix = self.busy_mix()
        plan = compile(mix)
        names = ["0+2+0", "0+5+0", "binaural"]
        together = [
            np.concatenate(parts, axis=1)
            for parts in zip(*render(plan, outputs_of(*names)), strict=True)
        ]
        for name, sound in zip(names, together, strict=True):
            alone = self.rendered(mix, name)  # as long as its own tail, not that of headphones
            self.assertTrue(np.array_equal(sound[:, : alone.shape[1]], alone))

    @settings(
        max_examples=15, deadline=None, suppress_health_check=[HealthCheck.differing_executors]
    )
    @given(st.data())
    def test_against_a_slow_and_simple_renderer(self, data: st.DataObject) -> None:
        """Random routings against sums written out by hand.

        Stereo tracks, buses in a row, sends of both kinds.
        """
        count = data.draw(st.integers(1, 3))
        sounds = [noise(2, 0.05, seed) for seed in range(count)]
        gain = st.sampled_from([0.0, -6.0, -12.5, -120.0])
        buses = [{"id": f"b{i}", "name": f"B{i}", "gain_db": data.draw(gain)} for i in range(2)]
        buses[0]["output"] = data.draw(st.sampled_from(["b1", "programme", None]))
        inputs = [np.zeros((2, 2400)), np.zeros((2, 2400))]
        wanted = np.zeros((2, 2400))
        tracks = []
        for i, sound in enumerate(sounds):
            self.write(f"{i}.wav", sound)
            track = {
                "sound": f"{i}.wav",
                "gain_db": data.draw(gain),
                "output": data.draw(st.sampled_from(["programme", "b0", "b1", None])),
            }
            after = sound * (10 ** (track["gain_db"] / 20) if track["gain_db"] > -120 else 0)
            send = {
                "bus": data.draw(st.sampled_from(["b0", "b1"])),
                "level_db": data.draw(gain),
                "tap": data.draw(st.sampled_from(["pre", "post"])),
            }
            track["sends"] = [send]
            level = 10 ** (send["level_db"] / 20) if send["level_db"] > -120 else 0
            inputs[int(send["bus"][1])] += (sound if send["tap"] == "pre" else after) * level
            if track["output"] == "programme":
                wanted = wanted + after
            elif track["output"]:
                inputs[int(track["output"][1])] += after
            tracks.append(track)
        for i, bus in enumerate(buses):
            out = inputs[i] * (10 ** (bus["gain_db"] / 20) if bus["gain_db"] > -120 else 0)
            if bus.get("output", "programme") == "programme":
                wanted = wanted + out
            elif bus["output"] == "b1":
                inputs[1] += out
        got = self.rendered(self.mix(tracks, buses=buses), "0+2+0")
        np.testing.assert_allclose(got, wanted, atol=1e-6)


class Silence(FolderTest):
    def test_silence_in_gives_silence_out(self) -> None:
        self.write("a.wav", np.zeros((2, 4800)))
        chain = [
            {"kind": "basics", "width": 2.0, "delay_ms": 5.0},
            {"kind": "network_reverb", "decay_s": 0.3},
        ]
        mix = self.mix([{"sound": "a.wav", "chain": chain}])
        for bits in ("16", "24", "32f"):
            for result in files_of(mix, self.folder, "0+5+0", "binaural", bits=bits):
                self.assertEqual(np.abs(soundfile.read(str(result.path))[0]).max(), 0.0)
                self.assertIsNone(result.figures.integrated_lufs)


class ToFiles(FolderTest):
    def one_track(self, level: float = 0.1):  # type: ignore[no-untyped-def]
        self.write("a.wav", noise(1, 0.5, level=level))
        mix = self.mix([{"sound": "a.wav", "placement": OBJECT}])
        return mix

    def test_results_are_measured_and_named(self) -> None:
        mix = self.one_track()
        results, speed = render_to_files(
            [Run(compile(mix), outputs_of(*mix.targets))],
            self.folder / "out",
            FileForm(),
            Names(mix.title),
        )
        self.assertEqual(
            [r.path.name for r in results],
            ["Test_0+2+0.wav", "Test_0+5+0.wav", "Test_binaural.wav"],
        )
        self.assertGreater(speed, 0)
        frames = 24000 + load_head(SHIPPED, RATE_HZ).taps  # all as long as headphones sound on
        for result in results:
            info = soundfile.info(str(result.path))
            self.assertEqual(
                (info.channels, info.frames, info.subtype),
                (result.output.target.channels, frames, "PCM_24"),
            )
        self.assertAlmostEqual(results[0].figures.correlation, 1.0, places=4)
        self.assertAlmostEqual(results[0].figures.fold_down_loss_db, 0.0, places=4)
        self.assertIsNone(results[1].figures.correlation)

    def test_what_exceeds_full_scale_is_counted_and_kept_in_float(self) -> None:
        mix = self.one_track(level=1.0)
        results = files_of(mix, self.folder / "int", "0+1+0")
        self.assertGreater(results[0].clipped_samples, 100)
        self.assertLessEqual(np.abs(soundfile.read(str(results[0].path))[0]).max(), 1.0)
        results = files_of(mix, self.folder / "float", "0+1+0", bits="32f")
        self.assertEqual(results[0].clipped_samples, 0)
        self.assertGreater(np.abs(soundfile.read(str(results[0].path))[0]).max(), 2.0)

    def test_dither_is_two_steps_wide_and_the_same_each_time(self) -> None:
        """Lipshitz, Wannamaker & Vanderkooy 1992.

        TPDF of 2 LSB makes the error's power steady, 3 LSB^2 / 12.
        """
        self.write("a.wav", sine(997, 1.0, -60))
        mix = self.mix([{"sound": "a.wav"}])
        first = files_of(mix, self.folder / "a", "0+1+0", bits="16")
        again = files_of(mix, self.folder / "b", "0+1+0", bits="16")
        self.assertEqual(first[0].path.read_bytes(), again[0].path.read_bytes())
        error = soundfile.read(str(first[0].path))[0] * 32768 - sine(997, 1.0, -60) * 32768
        self.assertAlmostEqual(float(np.var(error)), 0.25, delta=0.01)

    def test_cancelling_leaves_nothing(self) -> None:
        mix = self.one_track()

        def stop(progress: Progress) -> None:
            raise Cancelled

        with self.assertRaises(Cancelled):
            render_to_files(
                [Run(compile(mix), outputs_of("0+2+0"))],
                self.folder / "out",
                FileForm(),
                Names(mix.title),
                on_progress=stop,
            )
        self.assertEqual(list((self.folder / "out").iterdir()), [])

    def test_flac_and_its_limits(self) -> None:
        mix = self.one_track()
        results = files_of(mix, self.folder, "0+5+0", container="flac")
        self.assertEqual(soundfile.info(str(results[0].path)).format, "FLAC")
        with self.assertRaisesRegex(InputError, "at most 8 channels"):
            files_of(mix, self.folder, "4+7+0", container="flac")

    def test_names_are_safe(self) -> None:
        output = Output(target_named("0+2+0"), "gull")
        self.assertEqual(
            Names("../A \U0001f30a mix/é").of(output, FileForm()), "A__mixé_stem_gull_0+2+0.wav"
        )
        binaural = Output(target_named("binaural"))
        self.assertEqual(Names("///").of(binaural, FileForm()), "mix_binaural.wav")
        dated = FileForm(name="{date} {title} r{revision}{stem} {target}", container="flac")
        names = Names("Lamp", 7, "2026-11-26")
        self.assertEqual(names.of(binaural, dated), "2026-11-26_Lamp_r7_binaural.flac")


class Refused(FolderTest):
    def refused(self, words: str, tracks: list[dict], **rest: object) -> None:
        with self.assertRaisesRegex(InputError, words):
            mix = self.mix(tracks, **rest)
            self.rendered(mix, "0+5+0")

    def test_plain_sentences(self) -> None:
        self.write("six.wav", noise(6, 0.1))
        self.write("five.wav", noise(5, 0.1))
        self.write("other.wav", noise(1, 0.1), 44100)
        nan = noise(1, 0.1)
        nan[0, 100] = np.nan
        self.write("nan.wav", nan)
        self.refused("has no sound yet", [])
        self.refused("gone.wav is not there", [{"sound": "gone.wav"}])
        self.refused(
            "LFE channel, which has no direction", [{"sound": "six.wav", "placement": OBJECT}]
        )
        self.refused(
            "up to 64 channels, this has 5", [{"sound": "five.wav", "placement": {"mode": "scene"}}]
        )
        self.refused("5 channels fit no loudspeaker layout", [{"sound": "five.wav"}])
        self.refused("44100 Hz, the mix at 48000", [{"sound": "other.wav"}])
        self.refused("not numbers near 0.0 s", [{"sound": "nan.wav"}])
        self.refused("feeds nowhere, which is not a bus", [{"output": "nowhere"}])
        self.refused("Two tracks or buses have the id a", [{"id": "a"}, {"id": "a"}])
        self.refused(
            "azimuth_deg: .*180, not 200", [{"placement": {"mode": "bed", "azimuth_deg": 200}}]
        )
        self.refused("this field is not known", [{"shade": "red"}])
        self.refused("finite number", [{"gain_db": float("nan")}])

    def test_unknown_target(self) -> None:
        with self.assertRaisesRegex(InputError, "no target '5.1'; use binaural, scene1"):
            target_named("5.1")


if __name__ == "__main__":
    unittest.main()
