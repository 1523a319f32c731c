"""Rules that listen: one sound on two tracks, whatever their width, and the ways to mend it."""

import numpy as np

from metaphon.core.checks.finding import Finding
from metaphon.core.checks.rules import RULES, check, mend
from metaphon.core.checks.sound import Sound
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
