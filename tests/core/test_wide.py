"""Numbers side by side in registers against the same worked out by NumPy."""

import unittest

import numba
import numpy as np

from metaphon.core.dsp.wide import (
    LANES,
    SAMPLES,
    as_samples,
    as_wholes,
    eight_frames,
    floors,
    held_within,
    hushed,
    load,
    one_frame,
    put_fours,
    put_frames,
    splat,
    store,
    where_sound,
)


@numba.njit
def _worked(a, b, out):  # type: ignore[no-untyped-def]
    store(out, 1, load(a, 1) * load(b, 1) + load(a, 1) - splat(b[0]))


@numba.njit
def _through(sound, rows, at, held, out):  # type: ignore[no-untyped-def]
    for n, frame in enumerate(eight_frames(sound, rows, at)):
        store(held, n * LANES, frame + frame)
    put_frames(held, out, rows, at)


@numba.njit
def _one(sound, rows, at, least, out):  # type: ignore[no-untyped-def]
    store(out, 0, hushed(one_frame(sound, rows, at), splat(least)))


@numba.njit
def _across(numbers, rows, at, out, place, step):  # type: ignore[no-untyped-def]
    put_fours(numbers, rows, at, out, place, step)


@numba.njit
def _mingled(sound, numbers, out):  # type: ignore[no-untyped-def]
    n, x = load(numbers, 0), load(sound, 0)
    n = (n ^ (n >> splat(np.int32(13)))) * splat(np.int32(3))
    low, high = splat(np.float32(-2.0)), splat(np.float32(2.0))
    limited = as_wholes(held_within(floors(x), low, high))
    even = as_wholes(as_samples(limited))
    store(out, 0, where_sound(x, (n & splat(np.int32(0xFF))) + even))


class WideTests(unittest.TestCase):
    def setUp(self) -> None:
        self.random = np.random.default_rng(3)

    def test_arithmetic_is_that_of_each_number_in_both_widths(self) -> None:
        for kind, count, off in ((np.float64, LANES, 1e-15), (np.float32, SAMPLES, 1e-6)):
            a, b = self.random.normal(0.0, 1.0, (2, count + 1)).astype(kind)
            out = np.zeros(count + 1, dtype=kind)
            _worked(a, b, out)
            np.testing.assert_allclose(out[1:], a[1:] * b[1:] + a[1:] - b[0], 0.0, 4.0 * off)
            self.assertEqual(out[0], 0.0)

    def test_frames_are_taken_from_chosen_rows_and_put_back_in_their_places(self) -> None:
        sound = self.random.normal(0.0, 1.0, (11, 21)).astype(np.float32)
        chosen = np.array([10, 3, 0, 7, 1, 8, 2, 5])
        out = np.zeros_like(sound)
        _through(sound, chosen * sound.shape[1], 5, np.zeros(64), out)
        wanted = np.zeros_like(sound)
        wanted[chosen, 5:13] = 2.0 * sound[chosen, 5:13]
        np.testing.assert_array_equal(out, wanted)

    def test_one_frame_and_what_is_too_small_of_it(self) -> None:
        sound = np.zeros((8, 3), dtype=np.float32)
        sound[:, 1] = [0.5, -0.5, 1e-9, -1e-9, np.nan, 0.0, 2.0, -2.0]
        out = np.zeros(8)
        _one(sound, np.arange(8) * 3, 1, 1e-6, out)
        np.testing.assert_array_equal(out, [0.5, -0.5, 0.0, 0.0, 0.0, 0.0, 2.0, -2.0])

    def test_whole_numbers_and_samples(self) -> None:
        """Bits, floors and limits as those of NumPy; one that is 0 has no number."""
        sound = np.linspace(-3.3, 3.3, SAMPLES).astype(np.float32)
        sound[7] = 0.0
        numbers = self.random.integers(-(2**31), 2**31, SAMPLES).astype(np.int32)
        out = np.zeros(SAMPLES, dtype=np.int32)
        _mingled(sound, numbers, out)
        bits = numbers.view(np.uint32)
        wanted = (bits ^ (bits >> np.uint32(13))).view(np.int32) * np.int32(3)
        limited = np.clip(np.floor(sound), -2.0, 2.0).astype(np.int32)
        wanted = np.where(sound == 0.0, 0, (wanted & np.int32(0xFF)) + limited)
        np.testing.assert_array_equal(out, wanted)

    def test_four_rows_go_across(self) -> None:
        numbers = self.random.integers(-99, 99, (5, 9)).astype(np.int32)
        out = np.zeros(40, dtype=np.int32)
        _across(numbers, np.array([4, 0, 2, 2]) * 9, 3, out, 2, 6)
        wanted = np.zeros(40, dtype=np.int32)
        for n in range(4):
            wanted[2 + 6 * n : 6 + 6 * n] = numbers[[4, 0, 2, 2], 3 + n]
        np.testing.assert_array_equal(out, wanted)
