"""Clips: what is trimmed, split, faded and moved, in the samples."""

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from metaphon.core.document.mix import Mix
from metaphon.core.edits.clips import EDGE_FADE_S
from metaphon.core.edits.command import apply
from metaphon.core.edits.registry import read
from metaphon.core.errors import InputError
from tests.sounds import RATE_HZ, FolderTest, noise


class Clips(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        self.sound = 0.1 * noise(1, 2.0)[0]
        self.write("a.wav", self.sound)
        self.start = self.of({})

    def of(self, *clips: dict[str, float]) -> Mix:
        made = [{"file": "a.wav", **clip} for clip in clips]
        place = {"mode": "bed", "layout": "0+1+0"}
        mix: Mix = self.mix([{"id": "a", "clips": made, "placement": place}])
        return mix

    def heard(self, mix: Mix, seconds: float = 4.0) -> np.ndarray:
        sound = self.rendered(mix, "0+1+0")[0]
        return np.pad(sound, (0, max(0, round(seconds * RATE_HZ) - len(sound))))

    def edited(self, mix: Mix, kind: str, **values: object) -> Mix:
        return apply(mix, read({"kind": kind, "strip": "a", "place": 0, **values}))

    def test_a_part_of_a_recording_is_heard_where_it_is_set(self) -> None:
        heard = self.heard(self.of({"start_s": 1.0, "in_s": 0.5, "length_s": 0.25}))
        wanted = np.zeros_like(heard)
        wanted[RATE_HZ : RATE_HZ * 5 // 4] = self.sound[RATE_HZ // 2 : RATE_HZ * 3 // 4]
        np.testing.assert_allclose(heard, wanted, atol=1e-7)

    def test_what_is_longer_than_the_recording_ends_with_it(self) -> None:
        heard = self.heard(self.of({"length_s": 100.0}))
        np.testing.assert_allclose(heard[: len(self.sound)], self.sound, atol=1e-7)
        self.assertFalse(heard[len(self.sound) :].any())
        with self.assertRaisesRegex(InputError, "no sound yet"):
            self.heard(self.of({"in_s": 5.0}))

    def test_level_and_fades_by_a_quarter_of_a_sine(self) -> None:
        """Equal power: at half of a fade the level is 3.01 dB down."""
        self.write("a.wav", np.full(2 * RATE_HZ, 0.5))
        heard = self.heard(self.of({"gain_db": -6.0, "fade_in_s": 0.5, "fade_out_s": 1.0}))
        full = 0.5 * 10 ** (-6.0 / 20.0)
        self.assertAlmostEqual(heard[RATE_HZ // 4] / full, np.sqrt(0.5), delta=1e-3)
        self.assertAlmostEqual(heard[RATE_HZ * 3 // 2] / full, np.sqrt(0.5), delta=1e-3)
        self.assertAlmostEqual(heard[RATE_HZ * 3 // 4], full, delta=1e-6)
        self.assertLess(abs(heard[0]), 1e-4)
        self.assertLess(abs(heard[2 * RATE_HZ - 1]), 1e-4)

    def test_blocks_of_any_size_give_the_same(self) -> None:
        mix = self.of({"in_s": 0.1, "length_s": 1.7, "fade_in_s": 0.3, "fade_out_s": 0.4})
        one, other = (self.rendered(mix, "0+1+0", block_frames=n * 1024) for n in (1, 16))
        np.testing.assert_array_equal(one, other)

    def test_two_that_overlap_cross_over_at_a_constant_power(self) -> None:
        self.write("b.wav", 0.1 * noise(1, 2.0, seed=5)[0])
        first = {"length_s": 1.0, "fade_out_s": 0.5}
        second = {"file": "b.wav", "start_s": 0.5, "length_s": 1.5, "fade_in_s": 0.5}
        heard = self.heard(self.of(first, second))
        power = np.mean(heard[RATE_HZ * 5 // 8 : RATE_HZ * 7 // 8] ** 2)
        self.assertAlmostEqual(power / np.mean(self.sound**2), 1.0, delta=0.03)

    @settings(max_examples=30, deadline=None)
    @given(st.lists(st.floats(0.01, 2.99), min_size=1, max_size=5), st.floats(0.0, 1.0))
    def test_parts_of_a_split_sound_as_the_whole(self, times: list[float], start_s: float) -> None:
        whole = self.of({"start_s": start_s, "gain_db": -3.0, "fade_in_s": 0.2})
        mix = whole
        for at_s in times:
            for place in range(len(mix.tracks[0].clips)):
                try:
                    mix = self.edited(mix, "split_clip", place=place, at_s=at_s)
                    break
                except InputError:
                    continue
        np.testing.assert_array_equal(self.heard(mix), self.heard(whole))

    def test_trimming_leaves_the_sound_where_it_is_and_does_not_click(self) -> None:
        trimmed = self.edited(self.start, "trim_clip", begins_s=0.5, ends_s=1.5)
        [clip] = trimmed.tracks[0].clips
        self.assertEqual((clip.start_s, clip.in_s, clip.length_s), (0.5, 0.5, 1.0))
        self.assertEqual((clip.fade_in_s, clip.fade_out_s), (EDGE_FADE_S, EDGE_FADE_S))
        heard = self.heard(trimmed)
        inside = slice(RATE_HZ * 6 // 10, RATE_HZ * 14 // 10)
        np.testing.assert_allclose(heard[inside], self.sound[inside], atol=1e-7)
        self.assertLess(np.abs(heard[: RATE_HZ // 2 + 4]).max(), 0.02)
        [back] = self.edited(trimmed, "trim_clip", begins_s=0.0, ends_s=None).tracks[0].clips
        self.assertEqual((back.start_s, back.in_s, back.length_s), (0.0, 0.0, None))
        [early] = self.edited(trimmed, "trim_clip", begins_s=0.0, ends_s=1.5).tracks[0].clips
        moved = self.edited(trimmed, "move_clip", start_s=2.0)
        [earlier] = self.edited(moved, "trim_clip", begins_s=0.0, ends_s=2.5).tracks[0].clips
        self.assertEqual((early.in_s, earlier.in_s, earlier.start_s), (0.0, 0.0, 1.5))

    def test_moving_and_copying_from_track_to_track(self) -> None:
        bare = self.mix([{"id": "a", "sound": "a.wav"}, {"id": "b", "clips": []}])
        moved = self.edited(bare, "move_clip", start_s=1.0, to="b")
        self.assertEqual([len(track.clips) for track in moved.tracks], [0, 1])
        copied = self.edited(bare, "copy_clip", start_s=2.0)
        self.assertEqual([clip.start_s for clip in copied.tracks[0].clips], [0.0, 2.0])

    def test_refusals(self) -> None:
        for kind, values, words in (
            ("split_clip", {"at_s": 0.0}, "between its beginning and its end"),
            ("trim_clip", {"begins_s": 1.0, "ends_s": 0.5}, "ends after it begins"),
            ("remove_clip", {"place": 3}, "no longer there"),
            ("move_clip", {"start_s": 1.0, "to": "nowhere"}, "no longer in the mix"),
        ):
            with self.assertRaisesRegex(InputError, words):
                self.edited(self.start, kind, **values)
