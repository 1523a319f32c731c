"""What of a mix is kept where a target has no loudspeaker for it, and what is sent to an LFE."""

import unittest
from typing import Any

import numpy as np

from metaphon.core.checks.fold_down_report import STEP_S, WAYS, Fold, fold_down_report
from metaphon.core.document.fold_down import FoldDown
from metaphon.core.document.targets import target_named
from metaphon.core.dsp.phase_difference import quarter_turn
from metaphon.core.dsp.sections import response
from metaphon.core.edits.command import apply
from metaphon.core.edits.registry import read
from metaphon.core.engine.live import Player
from metaphon.core.engine.plan import compile
from metaphon.core.engine.render import Output
from metaphon.core.engine.report import left_out
from metaphon.core.engine.stems import stems_of
from metaphon.core.errors import InputError
from metaphon.core.measure.thirds import THIRDS_HZ
from metaphon.core.spatial.downmix import conversion, fold_power
from metaphon.core.spatial.layouts import LAYOUTS
from tests.sounds import RATE_HZ, FolderTest, noise, sine

BED = {"placement": {"mode": "bed", "layout": "4+7+0"}}
LFE = 3


class Shares(unittest.TestCase):
    def test_levels_are_gains_as_published_tables_have_them(self) -> None:
        """ETSI TS 102 366, centre and surround mix levels (from memory): -3 dB is 0.707, -4.5 is
        0.595, -6 is 0.500.
        """
        for level, gain in ((-3.0, 0.707), (-4.5, 0.595), (-6.0, 0.5), (0.0, 1.0), (-120.0, 0.0)):
            self.assertAlmostEqual(FoldDown(centre_db=level).shares.centre, gain, delta=5e-4)

    def test_two_all_passes_are_a_quarter_turn_apart(self) -> None:
        """S. D. Bedrosian 1960: within 0.3 degrees from 20 Hz to 0.45 of the rate."""
        for rate_hz in (44100, 48000, 192000):
            hertz = np.geomspace(20.0, 0.45 * rate_hz, 400)
            ahead, behind = (response(turn, hertz, rate_hz) for turn in quarter_turn(rate_hz))
            np.testing.assert_allclose(np.abs(ahead), 1.0, atol=1e-9)
            np.testing.assert_allclose(np.abs(behind), 1.0, atol=1e-9)
            turned = np.degrees(np.angle(behind / ahead))
            np.testing.assert_allclose(turned, -90.0, atol=0.3)


class Folded(FolderTest):
    """A bed of 7.1.4, one channel of it sounding."""

    def one(self, channel: int, target: str, **fold_down: Any) -> np.ndarray:
        """The RMS of each channel of a target, against that of the sound."""
        sound = np.zeros((12, RATE_HZ // 2))
        sound[channel] = sine(60.0 if channel == LFE else 1000.0, 0.5, -12.0)
        self.write("bed.wav", sound)
        out = self.rendered(self.mix([{"sound": "bed.wav", **BED}], fold_down=fold_down), target)
        rms = np.sqrt(np.mean(out[:, 9600:19200] ** 2, axis=1))
        return np.asarray(rms / np.sqrt(np.mean(sound[channel, 9600:19200] ** 2)))

    def test_each_share_is_heard_where_it_counts_and_nowhere_else(self) -> None:
        labels = LAYOUTS["4+7+0"].labels
        centre, side, above = (labels.index(name) for name in ("M+000", "M+090", "U+045"))
        third = 2.0**-1.5  # -9 dB
        for channel, target, said, wanted in (
            (centre, "0+2+0", {}, [0.7071, 0.7071]),
            (centre, "0+2+0", {"centre_db": -9.0}, [third, third]),
            (side, "0+2+0", {"surround_db": -9.0}, [third, 0.0]),
            (side, "0+2+0", {"surround_db": -120.0}, [0.0, 0.0]),
            (side, "0+5+0", {"surround_db": -9.0}, [0, 0, 0, 0, 1, 0]),
            (above, "0+2+0", {"height_db": -9.0}, [third, 0.0]),
            (above, "4+5+0", {"height_db": -9.0}, [0, 0, 0, 0, 0, 0, 1, 0, 0, 0]),
            (LFE, "0+2+0", {}, [0.0, 0.0]),
            (LFE, "0+2+0", {"lfe_db": -6.0}, [0.5012, 0.5012]),
            (LFE, "binaural", {}, [0.0, 0.0]),
            (LFE, "binaural", {"lfe_db": -6.0}, [0.5012, 0.5012]),
            (LFE, "0+5+0", {"lfe_db": -6.0}, [0, 0, 0, 1, 0, 0]),
        ):
            with self.subTest(channel=labels[channel], target=target, **said):
                np.testing.assert_allclose(self.one(channel, target, **said), wanted, atol=2e-3)

    def test_an_object_keeps_as_much_as_a_bed(self) -> None:
        """At every loudspeaker of 7.1.4, within 0.01 dB."""
        shares = FoldDown(surround_db=-6.0, height_db=-6.0).shares
        layout = LAYOUTS["4+7+0"]
        for target in ("0+2+0", "0+5+0"):
            for channel in layout.main:
                bed = np.sum(conversion("4+7+0", target, shares)[:, channel] ** 2)
                kept = fold_power(layout.vectors[channel], LAYOUTS[target], shares)
                self.assertAlmostEqual(10 * np.log10(kept / bed), 0.0, delta=0.01)

    def test_shifted_surrounds_do_not_cancel_and_nothing_else_changes(self) -> None:
        """The same tone in front and behind, upside down: without the shift 1 - 0.7071 is left,
        with it the root of the sum of squares.
        """
        for hertz in (50.0, 1000.0, 10000.0):
            tone = sine(hertz, 0.5, -12.0)
            sound = np.zeros((6, len(tone)))
            sound[0], sound[4] = tone, -tone
            self.write("bed.wav", sound)
            bed = {"sound": "bed.wav", "placement": {"mode": "bed", "layout": "0+5+0"}}
            for shift, wanted in ((False, 1.0 - np.sqrt(0.5)), (True, np.sqrt(1.5))):
                mix = self.mix([bed], fold_down={"surround_shift": shift})
                left = self.rendered(mix, "0+2+0")[0, 9600:19200]
                got = np.std(left) / np.std(tone[9600:19200])
                self.assertAlmostEqual(float(got), wanted, delta=0.01)
            whole = self.rendered(mix, "0+5+0")
            np.testing.assert_allclose(whole[:, : len(tone)], sound, atol=1e-6)

    def test_a_shifted_render_is_the_same_for_any_block_size(self) -> None:
        self.write("bed.wav", noise(6, 0.3))
        mix = self.mix([{"sound": "bed.wav"}], fold_down={"surround_shift": True})
        whole, parts = (self.rendered(mix, "0+2+0", frames) for frames in (32768, 1024))
        np.testing.assert_array_equal(whole, parts)

    def test_a_share_changed_while_it_plays_is_heard_without_a_click(self) -> None:
        self.write("bed.wav", np.tile(sine(200.0, 1.0, -12.0), (6, 1)))
        mixes = [self.mix([{"sound": "bed.wav"}], fold_down={"surround_db": d}) for d in (-3, -120)]
        output = Output(target_named("0+2+0"))
        player = Player(compile(mixes[0]), [output])
        self.addCleanup(player.close)
        blocks = []
        for n in range(8):
            if n == 4:
                player.change(compile(mixes[1]))
            blocks.append(player.take(2048)[1][output][0])
        sound = np.concatenate(blocks)
        before, after = (np.std(sound[part]) for part in (slice(2048, 6144), slice(12288, 16384)))
        self.assertAlmostEqual(after / before, 1.7071 / 2.4142, delta=0.02)
        curve = np.abs(np.diff(sound, 2))
        self.assertLess(curve[7000:12000].max(), 1.5 * curve[2048:6144].max())


class SentToLfe(FolderTest):
    def lfe(self, hertz: float = 40.0, target: str = "0+5+0", **more: Any) -> np.ndarray:
        self.write("a.wav", sine(hertz, 0.5, -12.0)[None])
        send = {"on": True, "level_db": -6.0, "corner_hz": 80.0}
        return self.rendered(self.mix([{"sound": "a.wav", "lfe": send, **more}]), target)

    def gain_db(self, sound: np.ndarray) -> float:
        inner = slice(12000, 21600)
        return float(20 * np.log10(np.std(sound[LFE, inner]) / np.std(sine(40.0, 0.5, -12.0))))

    def test_level_and_corner_are_what_they_say(self) -> None:
        """Butterworth of fourth order: 3.01 dB down at its corner, 48.2 dB two octaves above."""
        for hertz, wanted in ((20.0, -6.0), (80.0, -9.01), (320.0, -54.2)):
            self.assertAlmostEqual(self.gain_db(self.lfe(hertz)), wanted, delta=0.15)

    def test_all_other_channels_stay_and_targets_without_one_too(self) -> None:
        self.write("a.wav", sine(40.0, 0.5, -12.0)[None])
        plain = self.mix([{"sound": "a.wav"}])
        for target in ("0+5+0", "0+2+0", "binaural", "scene1"):
            before, after = self.rendered(plain, target), self.lfe(target=target)
            rest = [c for c in range(len(before)) if (target, c) != ("0+5+0", LFE)]
            np.testing.assert_array_equal(after[rest][:, : before.shape[1]], before[rest])

    def test_it_is_after_the_fader_and_silent_where_the_strip_is(self) -> None:
        self.assertAlmostEqual(self.gain_db(self.lfe(20.0, gain_db=-10.0)), -16.0, delta=0.15)
        muted = {"id": "other", "sound": "b.wav"}
        self.write("b.wav", noise(1, 0.5))
        send = {"on": True, "corner_hz": 80.0}
        for state in ({"muted": True}, {"resting": True}):
            self.lfe()
            mix = self.mix([{"sound": "a.wav", "lfe": send, **state}, muted])
            self.assertEqual(np.abs(self.rendered(mix, "0+5+0")[LFE]).max(), 0.0)
        alone = self.mix([{"sound": "a.wav", "lfe": send}, {**muted, "soloed": True}])
        self.assertEqual(np.abs(self.rendered(alone, "0+5+0")[LFE]).max(), 0.0)

    def test_a_wide_strip_enters_as_the_sum_of_its_channels_a_scene_by_its_omni(self) -> None:
        tone = sine(20.0, 0.5, -12.0)
        for channels, mode, wanted in ((2, "bed", 6.02), (6, "bed", 13.98), (4, "scene", 0.0)):
            self.write("wide.wav", np.tile(tone, (channels, 1)))
            track = {"sound": "wide.wav", "lfe": {"on": True}, "placement": {"mode": mode}}
            quiet = {"output": None} if mode == "bed" else {}
            out = self.rendered(self.mix([{**track, **quiet}]), "0+5+0")
            self.assertAlmostEqual(self.gain_db(out), wanted, delta=0.15)

    def test_it_is_in_time_whatever_the_way_of_the_strip_costs(self) -> None:
        """Behind a bus with a filter of linear phase, the strip works ahead; its LFE does not."""
        slow = {"kind": "eq", "phase": "linear", "bands": [{"gain_db": 0.1}]}
        self.write("a.wav", noise(1, 0.5))
        track = {"sound": "a.wav", "lfe": {"on": True}}
        bus = {"id": "b", "name": "B", "layout": "0+1+0", "chain": [slow]}
        plain = self.rendered(self.mix([track]), "0+5+0")[LFE]
        late = self.rendered(self.mix([{**track, "output": "b"}], buses=[bus]), "0+5+0")[LFE]
        np.testing.assert_allclose(late[: len(plain)], plain, atol=1e-6)

    def test_level_and_corner_move_to_the_sample_live_as_offline(self) -> None:
        points = lambda low, high: [  # noqa: E731
            {"t_s": 0.1, "value": low},
            {"t_s": 0.3, "value": high},
        ]
        lanes = [
            {"target": "t0/lfe/level_db", "points": points(-20.0, 0.0)},
            {"target": "t0/lfe/corner_hz", "points": points(40.0, 200.0)},
        ]
        self.write("a.wav", noise(1, 0.5))
        mix = self.mix([{"sound": "a.wav", "lfe": {"on": True}}], automation=lanes)
        whole, parts = (self.rendered(mix, "0+5+0", frames) for frames in (32768, 1024))
        np.testing.assert_array_equal(whole, parts)
        self.assertGreater(np.std(whole[LFE, 15000:20000]), 3 * np.std(whole[LFE, 1000:4000]))
        output = Output(target_named("0+5+0"))
        player = Player(compile(mix), [output])
        self.addCleanup(player.close)
        live = np.concatenate([player.take(2048)[1][output] for _ in range(11)], axis=1)
        np.testing.assert_allclose(live, whole[:, : live.shape[1]], atol=1e-6)

    def test_it_belongs_to_the_stem_of_its_strip(self) -> None:
        mix = self.mix([{"sound": "a.wav", "lfe": {"on": True}}, {"sound": "a.wav"}])
        whole = self.lfe()
        parts = [self.rendered(stem.mix, "0+5+0") for stem in stems_of(mix, "tracks")]
        self.assertGreater(np.std(parts[0][LFE]), 0.1 * np.std(whole))
        self.assertEqual(np.abs(parts[1][LFE]).max(), 0.0)


class Commands(FolderTest):
    def test_the_report_says_what_becomes_of_the_lfe(self) -> None:
        self.write("a.wav", noise(1, 0.1))
        for kept, words in ((None, "The LFE is left out."), (-6.0, "The LFE is kept at -6 dB")):
            mix = self.mix([{"sound": "a.wav"}], fold_down={"lfe_db": kept})
            self.assertIn(words, " ".join(left_out(mix, target_named("0+2+0"))))
            self.assertEqual([s for s in left_out(mix, target_named("0+5+0")) if "LFE" in s], [])

    def test_the_fold_down_and_an_lfe_are_set_as_people_type(self) -> None:
        self.write("a.wav", noise(1, 0.1))
        mix = self.mix([{"sound": "a.wav", "name": "Buoy"}])
        for data, said in (
            ({"kind": "set_fold_down", "path": "lfe_db", "value": "-10"}, "Fold-down: LFE -10 dB"),
            ({"kind": "set_fold_down", "path": "lfe_db", "value": ""}, "Fold-down: LFE off"),
            (
                {"kind": "set_fold_down", "path": "surround_db", "value": "-4,5 dB"},
                "Fold-down: surround -4.5 dB",
            ),
            (
                {"kind": "set_fold_down", "path": "surround_shift", "value": True},
                "Fold-down: surround shift on",
            ),
            (
                {"kind": "set", "strips": ["t0"], "path": "lfe/on", "value": True},
                "Buoy to the LFE: on on",
            ),
            (
                {"kind": "set", "strips": ["t0"], "path": "lfe/level_db", "value": "-3"},
                "Buoy to the LFE: level -3 dB",
            ),
        ):
            command = read(data)
            self.assertEqual(command.describe(mix), said)
            mix = apply(mix, command)
        self.assertEqual(mix.fold_down, FoldDown(surround_db=-4.5, surround_shift=True))
        self.assertEqual(mix.tracks[0].lfe.level_db, -3.0)
        with self.assertRaisesRegex(InputError, "Surround may be -120 to 0 dB; 3.0 is outside"):
            apply(mix, read({"kind": "set_fold_down", "path": "surround_db", "value": 3}))
        with self.assertRaisesRegex(InputError, "no value rear_db"):
            apply(mix, read({"kind": "set_fold_down", "path": "rear_db", "value": 3}))


class Report(FolderTest):
    """What is lost of sounds whose loss is known."""

    def folds(self, mix: Any, strip: str | None = None) -> dict[tuple[str, str], Fold]:
        return {(fold.source, fold.target): fold for fold in fold_down_report(mix, strip)}

    def test_mono_loses_what_the_algebra_says_in_every_band_and_step(self) -> None:
        """10 lg(2 (Pl + Pr) / P(l + r)): equal 0, unrelated 3.01, a side half the middle 0.97."""
        one, two = noise(1, 6.0, 1), noise(1, 6.0, 2)
        for sound, lost in (
            (np.concatenate([one, one]), 0.0),
            (np.concatenate([one, two]), 3.01),
            (np.concatenate([one + 0.5 * two, one - 0.5 * two]), 0.97),
            (np.concatenate([one, -one]), 120.0),
        ):
            self.write("pair.wav", sound)
            mono = self.folds(self.mix([{"sound": "pair.wav"}]))["0+2+0", "0+1+0"]
            self.assertAlmostEqual(mono.loss_db, lost, delta=0.1)
            told = [band for band, hz in zip(mono.bands_db, THIRDS_HZ, strict=True) if hz > 400.0]
            np.testing.assert_allclose(told, lost, atol=0.4)
            self.assertEqual(len(mono.steps_db), 6.0 / STEP_S)
            np.testing.assert_allclose(mono.steps_db[:-1], lost, atol=0.4)

    def test_surrounds_lose_what_their_share_says_and_the_lfe_is_not_counted(self) -> None:
        sound = np.zeros((6, 5 * RATE_HZ))
        sound[4], sound[LFE] = noise(1, 5.0, 4), 9.0 * noise(1, 5.0, 5)
        self.write("bed.wav", sound)
        bed = [{"sound": "bed.wav", "placement": {"mode": "bed", "layout": "0+5+0"}}]
        for share in (-3.0, -6.0):
            folds = self.folds(self.mix(bed, fold_down={"surround_db": share}))
            self.assertAlmostEqual(folds["0+5+0", "0+2+0"].loss_db, -share, delta=0.05)

    def test_the_track_at_fault_is_named_with_what_comes_back_and_the_worst_place_found(
        self,
    ) -> None:
        one, side = noise(1, 8.0, 1), noise(1, 8.0, 2)
        side[:, : 5 * RATE_HZ] *= 0.1
        side[:, 6 * RATE_HZ :] *= 0.1
        self.write("mono.wav", one)
        self.write("wide.wav", np.concatenate([side, -side]))
        self.write("other.wav", 0.1 * noise(1, 8.0, 3))
        mix = self.mix(
            [
                {"id": "mono", "sound": "mono.wav", "output": "all"},
                # through a bus, whose share of it is its own
                {"id": "wide", "sound": "wide.wav", "output": "all"},
                {"id": "other", "sound": "other.wav"},
                {"id": "muted", "sound": "wide.wav", "muted": True},
            ],
            buses=[{"id": "all", "name": "All", "layout": "0+2+0"}],
        )
        mono = self.folds(mix)["0+2+0", "0+1+0"]
        [cause] = mono.causes
        self.assertEqual(cause.track, "wide")
        self.assertAlmostEqual(cause.comes_back_db, mono.loss_db, delta=0.1)
        self.assertTrue(4.9 <= mono.worst_s <= 5.6, mono.worst_s)
        self.assertEqual(self.folds(mix, "wide")["0+2+0", "0+1+0"].loss_db, 120.0)
        self.assertAlmostEqual(self.folds(mix, "mono")["0+2+0", "0+1+0"].loss_db, 0.0, delta=0.01)
        bus = self.folds(mix, "all")["0+2+0", "0+1+0"]
        self.assertAlmostEqual(bus.loss_db, mono.loss_db, delta=0.1)

    def test_what_comes_back_without_a_track_is_told_with_surrounds_turned_or_not(self) -> None:
        """The same in L and Ls keeps 1 + 0.5 of 2 where Ls is turned, (1 + 0.71)^2 where not."""
        pair = np.zeros((6, 4 * RATE_HZ))
        pair[0] = pair[4] = noise(1, 4.0, 6)
        self.write("pair.wav", pair)
        self.write("middle.wav", noise(1, 4.0, 7))
        bed = {"id": "pair", "sound": "pair.wav", "placement": {"mode": "bed", "layout": "0+5+0"}}
        middle = {"id": "middle", "sound": "middle.wav", "placement": {"mode": "object"}}
        for shift, kept in ((True, 1.5), (False, (1.0 + 0.5**0.5) ** 2)):
            mix = self.mix([bed, middle], fold_down={"surround_shift": shift})
            fold = self.folds(mix)["0+5+0", "0+2+0"]
            lost = 10.0 * np.log10(3.0 / (kept + 1.0))
            self.assertAlmostEqual(fold.loss_db, lost, delta=0.1)
            at_fault, comes_back = (
                ("pair", lost) if shift else ("middle", lost - 10 * np.log10(2 / kept))
            )
            [cause] = fold.causes
            self.assertEqual(cause.track, at_fault)
            self.assertAlmostEqual(cause.comes_back_db, comes_back, delta=0.1)

    def test_silence_says_nothing_and_a_strip_that_is_gone_is_told(self) -> None:
        self.write("none.wav", np.zeros((1, RATE_HZ)))
        mix = self.mix([{"sound": "none.wav"}])
        for way, fold in self.folds(mix).items():
            self.assertIn(way, WAYS)
            self.assertIsNone(fold.loss_db)
            self.assertIsNone(fold.worst_s)
            self.assertEqual(set(fold.bands_db), {None})
        with self.assertRaisesRegex(InputError, "no longer in the mix"):
            fold_down_report(mix, "gone")
