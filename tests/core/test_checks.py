"""Rules that listen: one sound on two tracks, whatever their width, and the ways to mend it."""

from typing import Any

import numpy as np

from metaphon.core.checks.finding import Finding
from metaphon.core.checks.rules import RULES, check, mend
from metaphon.core.checks.sound import Sound
from metaphon.core.checks.space_tails import space_tail
from metaphon.core.document.mix import Mix
from metaphon.core.edits.command import apply
from tests.sounds import RATE_HZ, FolderTest


def strokes(seed: int) -> np.ndarray:
    """Six seconds of decaying bursts at irregular times, (frames)."""
    chance = np.random.default_rng(seed)
    sound = np.zeros(6 * RATE_HZ)
    for at in np.sort(chance.uniform(0.1, 5.5, 14)):
        burst = chance.standard_normal(RATE_HZ // 3) * np.exp(-np.arange(RATE_HZ // 3) / 3000.0)
        first = int(at * RATE_HZ)
        sound[first : first + len(burst)] += 0.1 * burst
    return sound


def late(sound: np.ndarray, frames: int) -> np.ndarray:
    return np.concatenate([np.zeros(frames), sound])[: len(sound)]


class OneSoundTwice(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        self.one, self.two = strokes(1), strokes(2)

    def found(self, **sounds: np.ndarray) -> list[Finding]:
        """What is found in a mix of these; those that listen, each rule and subject once."""
        return [finding for finding in check(self.of(**sounds)) if RULES[finding.rule].listen]

    def of(self, **sounds: np.ndarray) -> Mix:
        for name, sound in sounds.items():
            self.write(f"{name}.wav", sound)
        mix: Mix = self.mix([{"id": name, "sound": f"{name}.wav"} for name in sounds])
        return mix

    def test_a_side_of_a_stereo_recording_again_as_a_track_of_its_own(self) -> None:
        pair = np.stack([self.one, self.two])
        again = {
            "left": self.one,
            "right": 0.5 * self.two,  # softer is the same all the same
            "mid": (self.one + self.two) / 2,
            "side": (self.one - self.two) / 2,
        }
        for side, sound in again.items():
            with self.subTest(side):
                [finding] = self.found(pair=pair, mono=sound)
                self.assertEqual((finding.rule, finding.subject), ("same_recording", "mono"))
                self.assertIn(f"the {side} of pair", finding.message)

    def test_the_order_of_the_tracks_and_the_width_of_both_do_not_matter(self) -> None:
        pair = np.stack([self.one, self.two])
        [first] = self.found(mono=self.one, pair=pair)
        self.assertEqual(first.subject, "mono")
        [both] = self.found(pair=pair, copy=0.7 * pair)
        self.assertEqual((both.rule, both.subject), ("same_recording", "copy"))
        [mono] = self.found(here=self.one, there=self.one)
        self.assertEqual((mono.rule, mono.subject), ("same_recording", "there"))

    def test_unrelated_sounds_are_left_alone(self) -> None:
        self.assertEqual(self.found(pair=np.stack([self.one, self.two]), other=strokes(3)), [])

    def test_a_microphone_that_is_late_against_one_side(self) -> None:
        """Both ways to mend it bring the two together; the one leaves all else where it is."""
        chance = np.random.default_rng(9)
        close = late(self.two, 96) + 0.004 * chance.standard_normal(len(self.two))
        mix = self.of(pair=np.stack([self.one, self.two]), close=close)
        [finding] = [f for f in check(mix) if RULES[f.rule].listen]
        self.assertEqual((finding.rule, finding.subject, finding.other), ("late", "close", "pair"))
        self.assertAlmostEqual(finding.amount, 2.0, delta=0.02)
        self.assertIn("the right of pair", finding.message)
        for way, (strip, delay_ms) in enumerate({"close": -2.0, "pair": 2.0}.items()):
            mended = apply(mix, mend(mix, finding, way))
            moved = next(track for track in mended.tracks if track.id == strip)
            self.assertAlmostEqual(moved.chain[0].delay_ms, delay_ms, delta=0.02)
            [again] = Sound(mended).alike
            self.assertLess(abs(again.delay_ms), 0.02)

    def test_the_polarity_of_one_side_is_that_of_its_channel(self) -> None:
        chance = np.random.default_rng(9)
        close = -self.two + 0.004 * chance.standard_normal(len(self.two))
        mix = self.of(pair=np.stack([self.one, self.two]), close=close)
        self.assertEqual([f.rule for f in check(mix)], ["opposed_polarity"])
        right = {"kind": "basics", "inverted_channels": [2]}
        mended = self.mix(
            [
                {"id": "pair", "sound": "pair.wav", "chain": [right]},
                {"id": "c", "sound": "close.wav"},
            ]
        )
        self.assertEqual(check(mended), [])


class Spaces(FolderTest):
    """What spaces do to what is sent to them, and how it is mended."""

    def setUp(self) -> None:
        super().setUp()
        self.write("voice.wav", strokes(4))

    def of(self, *buses: dict[str, Any], **rest: Any) -> Mix:
        """A narrator that sends to each of some buses."""
        sends = [{"bus": bus["id"], "level_db": rest.get("level_db", -20.0)} for bus in buses]
        track = {"id": "narrator", "name": "Narrator", "sound": "voice.wav", "sends": sends}
        lanes = rest.get("automation", [])
        mix: Mix = self.mix(
            [track], buses=[{"name": bus["id"], **bus} for bus in buses], automation=lanes
        )
        return mix

    def room(self, name: str = "room", **parameters: Any) -> dict[str, Any]:
        return {"id": name, "chain": [{"kind": "network_reverb", **parameters}]}

    def held_to(self, mix: Mix, rule: str) -> list[Finding]:
        return [finding for finding in check(mix) if finding.rule == rule]

    def mended(self, mix: Mix, rule: str) -> Mix:
        """The mix with what a rule found taken away; it is not found again."""
        [finding] = self.held_to(mix, rule)
        after = apply(mix, mend(mix, finding))
        self.assertEqual(self.held_to(after, rule), [])
        return after

    def test_a_plain_room_is_left_alone(self) -> None:
        self.assertEqual(check(self.of(self.room())), [])

    def test_a_hold_that_is_never_let_go(self) -> None:
        self.mended(self.of(self.room(hold=1.0)), "held_at_end")
        points = [{"t_s": 0.0, "value": 0.0, "curve": "hold"}, {"t_s": 2.0, "value": 1.0}]
        lane = {"target": "room/chain/0/hold", "points": points}
        after = self.mended(self.of(self.room(), automation=[lane]), "held_at_end")
        self.assertEqual(after.automation, ())
        points.append({"t_s": 4.0, "value": 0.0})
        self.assertEqual(self.held_to(self.of(self.room(), automation=[lane]), "held_at_end"), [])

    def test_a_tail_that_outlasts_the_recordings(self) -> None:
        [finding] = self.held_to(self.of(self.room(decay_s=8.0)), "long_tail")
        self.assertIn("8.3 s after", finding.message)

    def test_two_reverbs_in_series(self) -> None:
        one = {**self.room("one"), "sends": [{"bus": "two"}], "output": "two"}
        after = self.mended_all(self.of(one, self.room("two")), "reverbs_in_series")
        self.assertEqual((after.buses[0].sends, after.buses[0].output), ((), "programme"))
        chain = self.room()["chain"] * 2
        after = self.mended(self.of({"id": "room", "chain": chain}), "reverbs_in_series")
        self.assertEqual([one.bypassed for one in after.buses[0].chain], [False, True])

    def mended_all(self, mix: Mix, rule: str) -> Mix:
        for finding in self.held_to(mix, rule):
            mix = apply(mix, mend(mix, finding))
        self.assertEqual(self.held_to(mix, rule), [])
        return mix

    def test_sides_that_are_against_each_other_or_alike(self) -> None:
        fall = 10.0 ** (-np.arange(RATE_HZ) / RATE_HZ * 3.0)
        sound = np.random.default_rng(2).standard_normal(RATE_HZ) * fall
        for sides, words in (((sound, -sound), "against"), ((sound, sound), "alike")):
            path = self.write(f"{words}.wav", np.stack(sides))
            chain = [{"kind": "convolution_reverb", "file": str(path)}]
            bus = {"id": "room", "layout": "0+2+0", "chain": chain}
            [finding] = self.held_to(self.of(bus), "one_sided_space")
            self.assertIn(words, finding.message)

    def test_bass_that_stays(self) -> None:
        after = self.mended(self.of(self.room(decay_s=1.0, bass_decay=2.5)), "low_build_up")
        self.assertEqual(after.buses[0].chain[0].low_cut_hz, 120.0)

    def test_a_voice_that_is_hard_to_follow(self) -> None:
        """C50 of 1 + a early and late parts by hand; what is sent less of is clear again."""
        mix = self.of(self.room(decay_s=2.0), level_db=0.0)
        [finding] = self.held_to(mix, "unclear_voice")
        tail = space_tail(mix, mix.buses[0])
        self.assertAlmostEqual(tail.early + tail.late, 1.0, delta=0.15)
        wanted = 10.0 * np.log10((1.0 + tail.early) / tail.late)
        self.assertIn(f"C50 is {wanted:.1f} dB", finding.message)
        self.mended(mix, "unclear_voice")
        self.assertEqual(self.held_to(self.of(self.room(), level_db=-12.0), "unclear_voice"), [])
