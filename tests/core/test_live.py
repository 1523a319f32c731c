"""Live playing.

The same samples as a render, edits without a click, tails kept, loops and jumps to the sample.
"""

from typing import Any

import numpy as np

from metaphon.core.document.targets import target_named
from metaphon.core.engine.live import FADE_FRAMES, Player
from metaphon.core.engine.plan import compile
from metaphon.core.engine.render import Output
from tests.sounds import RATE_HZ, FolderTest, noise, sine

STEREO = Output(target_named("0+2+0"))


class LiveTest(FolderTest):
    def player(self, mix: Any, at: int = 0, *outputs: Output) -> Player:
        player = Player(compile(mix), outputs or (STEREO,), at)
        self.addCleanup(player.close)
        return player

    def played(self, player: Player, frames: int, stretch: int = 2048) -> np.ndarray:
        found = []
        while sum(part.shape[1] for part in found) < frames:
            found.append(player.take(stretch)[1][STEREO])
        return np.concatenate(found, axis=1)[:, :frames]


class Playing(LiveTest):
    def song(self, **change: Any) -> Any:
        self.write("tone.wav", sine(440, 2.0, -12))
        self.write("noise.wav", noise(2, 2.0))
        self.write("late.wav", noise(1, 2.0, seed=3))
        track = {
            "sound": "tone.wav",
            "sends": [{"bus": "room", "level_db": -10.0}],
            "placement": {"mode": "object", "azimuth_deg": 20.0},
        }
        late = {
            "sound": "late.wav",
            "chain": [{"kind": "eq", "phase": "linear", "length_ms": "40"}],
        }
        room = {
            "id": "room",
            "name": "Room",
            "chain": [{"kind": "network_reverb", "decay_s": change.get("decay", 1.0)}],
        }
        return self.mix([track, {"sound": "noise.wav"}, late], buses=[room])

    def test_it_is_the_render_from_any_place_and_for_any_stretch(self) -> None:
        mix = self.song()
        whole = self.rendered(mix, "0+2+0")
        for stretch in (700, 2048):
            live = self.played(self.player(mix), 60000, stretch)
            np.testing.assert_allclose(
                live[:, FADE_FRAMES:], whole[:, FADE_FRAMES:60000], atol=1e-6
            )
        dry = self.mix([{"sound": "noise.wav"}])
        live = self.played(self.player(dry, 12345), 20000)
        expected = self.rendered(dry, "0+2+0")[:, 12345:32345]
        np.testing.assert_allclose(live[:, FADE_FRAMES:], expected[:, FADE_FRAMES:], atol=1e-6)
        line = np.arange(1, FADE_FRAMES + 1) / FADE_FRAMES
        np.testing.assert_allclose(
            live[:, :FADE_FRAMES], expected[:, :FADE_FRAMES] * line, atol=1e-6
        )

    def test_a_loop_turns_on_its_sample(self) -> None:
        self.write("ramp.wav", np.arange(48000) / 96000)
        mix = self.mix([{"sound": "ramp.wav"}])
        player = self.player(mix, 3000)
        player.loop = (3000, 13000)
        places = []
        for _ in range(12):
            first, blocks = player.take(2048)
            places.append((first, first + blocks[STEREO].shape[1]))
        self.assertEqual(max(stop for _, stop in places), 13000)
        self.assertEqual(sum(first == 3000 for first, _ in places), 3)
        player = self.player(mix, 3000)
        player.loop = (3000, 13000)
        sound = self.played(player, 20000)[0]
        gain = sound[5000] / (8000 / 96000)
        np.testing.assert_allclose(
            sound[10600:19999] / gain, np.arange(3600, 12999) / 96000, atol=1e-6
        )

    def test_a_jump_rises_from_silence_and_goes_on_from_its_sample(self) -> None:
        self.write("ramp.wav", np.arange(48000) / 96000)
        player = self.player(self.mix([{"sound": "ramp.wav"}]))
        before = self.played(player, 4096)[0]
        player.jump(30001)
        after = self.played(player, 4096)[0]
        self.assertLess(abs(after[0]), 0.001)
        gain = before[4000] / (4000 / 96000)
        np.testing.assert_allclose(after[1000:] / gain, np.arange(31001, 34097) / 96000, atol=1e-6)


class Edits(LiveTest):
    def steps(self, before: Any, after: Any, frames: int = 8192) -> tuple[np.ndarray, float]:
        """What is heard round an edit at frame 8192, and the largest second difference there
        against before.
        """
        player = self.player(before)
        first = self.played(player, 8192)
        player.change(compile(after))
        sound = np.concatenate([first, self.played(player, frames)], axis=1)
        bend = np.abs(np.diff(sound, n=2, axis=1)).max(axis=0)
        return sound, float(bend[8150:].max() / max(bend[2000:8000].max(), 1e-9))

    def test_no_edit_clicks(self) -> None:
        """A click would be a step of the order of the signal.

        A bend hundreds of times that of a 100 Hz tone.
        """
        self.write("tone.wav", sine(100, 2.0, -6))
        self.write("pair.wav", np.stack([sine(100, 2.0, -6), np.roll(sine(100, 2.0, -6), 100)]))
        plain = {"sound": "tone.wav", "placement": {"mode": "object"}}
        pair = {"sound": "pair.wav", "placement": {"mode": "bed", "layout": "0+2+0"}}
        wide = {**plain, "placement": {"mode": "object", "azimuth_deg": 30.0}}
        basics = lambda **values: {**plain, "chain": [{"kind": "basics", **values}]}  # noqa: E731
        eq = lambda gain, **more: {  # noqa: E731
            **plain,
            "chain": [
                {
                    "kind": "eq",
                    "bands": [{"shape": "bell", "frequency_hz": 100.0, "gain_db": gain}],
                    **more,
                }
            ],
        }
        room = {"id": "r", "name": "R", "chain": [{"kind": "network_reverb"}]}
        cases = {
            "gain": (plain, {**plain, "gain_db": -18.0}),
            "azimuth": (plain, wide),
            "mute": (plain, {**plain, "muted": True}),
            "delay": (basics(), basics(delay_ms=3.0)),
            "polarity": (basics(), basics(polarity_inverted=True)),
            "a processor": (plain, basics(input_gain_db=-6.0)),
            "bypass": (eq(9.0), {**plain, "chain": [{**eq(9.0)["chain"][0], "bypassed": True}]}),
            "equaliser": (eq(9.0), eq(-9.0)),
            "latency": (eq(9.0), eq(9.0, phase="linear")),
            "width": (
                {**pair, "chain": [{"kind": "basics"}]},
                {**pair, "chain": [{"kind": "basics", "width": 0.0}]},
            ),
            "placement": (wide, {**wide, "placement": {"mode": "none"}}),
            "a send": (plain, {**plain, "sends": [{"bus": "r", "level_db": -12.0}]}),
        }
        other = {
            "sound": "tone.wav",
            "gain_db": -30.0,
        }  # so that there is something to hear when the first is muted
        for name, (before, after) in cases.items():
            with self.subTest(name):
                mixes = (self.mix([strip, other], buses=[room]) for strip in (before, after))
                sound, bend = self.steps(*mixes)
                self.assertLess(bend, 12.0)
                self.assertFalse(
                    np.allclose(sound[:, 12000:16000], sound[:, 2400:6400], atol=1e-4),
                    "nothing changed",
                )

    def test_after_an_edit_it_is_the_render_of_the_edited_mix(self) -> None:
        self.write("a.wav", noise(2, 1.0))
        bed = {"mode": "bed", "layout": "0+2+0"}
        before = self.mix(
            [{"sound": "a.wav", "placement": bed}, {"sound": "a.wav", "placement": bed}]
        )
        for change in (
            {"gain_db": -7.0},
            {"muted": True},
            {"chain": [{"kind": "basics", "width": 0.4, "delay_ms": 7.0}]},
            {"chain": [{"kind": "eq", "phase": "linear", "length_ms": "20"}]},
        ):
            after = self.mix(
                [
                    {"sound": "a.wav", "placement": bed},
                    {"sound": "a.wav", "placement": bed, **change},
                ]
            )
            sound, _ = self.steps(before, after, 20000)
            np.testing.assert_allclose(
                sound[:, 18000:28000], self.rendered(after, "0+2+0")[:, 18000:28000], atol=2e-6
            )

    def test_what_works_ahead_is_put_into_a_dry_mix_without_a_gap(self) -> None:
        """The old voice sounds until the new one opens, however far ahead that works."""
        self.write("tone.wav", sine(100, 2.0, -12))
        linear = {"kind": "eq", "phase": "linear", "bands": [{"gain_db": 0.1}]}
        mixes = [self.mix([{"sound": "tone.wav", "chain": chain}]) for chain in ([], [linear])]
        player = self.player(mixes[0])
        before = self.played(player, 8192)
        player.change(compile(mixes[1]))
        sound = np.concatenate([before, self.played(player, 32768)], axis=1)[0, 1024:]
        self.assertLess(np.abs(np.diff(sound, 2)).max(), 0.002)
        power = np.convolve(sound**2, np.ones(4800) / 4800, "valid")
        self.assertLess(10 * np.log10(power.max() / power.min()), 0.3)

    def test_reverb_tails_are_kept(self) -> None:
        """A click into a room; then an edit of each kind; the room goes on."""
        click = np.zeros(96000)
        click[4000] = 0.5
        self.write("click.wav", click)
        room = {
            "id": "r",
            "name": "R",
            "chain": [{"kind": "network_reverb", "decay_s": 3.0, "predelay_ms": 0.0}],
        }
        track = {"sound": "click.wav", "output": None, "sends": [{"bus": "r", "level_db": 0.0}]}
        whole = self.rendered(self.mix([track], buses=[room]), "0+2+0")[:, 10000:16000]
        other = {**room, "chain": [{"kind": "network_reverb", "decay_s": 1.0, "predelay_ms": 0.0}]}
        shorter, _ = self.steps(self.mix([track], buses=[room]), self.mix([track], buses=[other]))
        energy = np.sum(shorter[:, 10000:11000] ** 2)
        before = np.sum(whole[:, :1000] ** 2)
        # what rings goes on, neither cut nor begun anew; a shorter decay is set some dB higher
        self.assertAlmostEqual(10 * np.log10(energy / before), 2.0, delta=3.0)
        for after in (
            self.mix([{**track, "gain_db": -10.0}], buses=[room]),
            self.mix(
                [track, {"sound": "click.wav", "start_s": 1.0}], buses=[room]
            ),  # another track: another shape
            self.mix([{**track, "chain": [{"kind": "basics"}]}], buses=[room]),
        ):
            sound, _ = self.steps(self.mix([track], buses=[room]), after)
            np.testing.assert_allclose(sound[:, 10000:16000], whole, atol=2e-5)

    def test_another_output_begins_where_the_first_is(self) -> None:
        self.write("a.wav", noise(1, 1.0))
        mix = self.mix([{"sound": "a.wav", "placement": {"mode": "object", "azimuth_deg": 110.0}}])
        player = self.player(mix, 500)
        self.played(player, 3000, 1500)
        five = Output(target_named("0+5+0"))
        player.hear([STEREO, five])
        first, blocks = player.take(2048)
        expected = self.rendered(mix, "0+5+0")[:, first : first + 2048]
        np.testing.assert_allclose(blocks[five], expected, atol=1e-6)
        self.assertEqual(RATE_HZ, player.plan.rate_hz)
