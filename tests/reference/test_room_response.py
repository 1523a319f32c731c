"""Decay, clarity and density against responses whose figures are known by formula."""

import unittest

import numpy as np

from metaphon.core.document.mix import Bus
from metaphon.core.engine.tail import tail_of
from metaphon.core.measure.room_response import OCTAVES_HZ, decay_time_s, room_response
from metaphon.core.process.basics import Basics
from metaphon.core.process.impulse_response import Shape, shaped
from metaphon.core.process.network_reverb import NetworkReverb
from metaphon.core.spaces.materials import BANDS_HZ, decay_by_eyring_s, decay_by_sabine_s
from metaphon.core.spaces.space import Room
from tests.sounds import RATE_HZ, noise


def exponential(decay_s: float, seconds: float = 0.0, seed: int = 1) -> np.ndarray:
    """Noise that falls by 60 dB in so long."""
    length_s = seconds or 2.0 * decay_s
    sound = noise(1, length_s, seed)[0]
    return sound * 10.0 ** (-3.0 * np.arange(len(sound)) / RATE_HZ / decay_s)


class Known(unittest.TestCase):
    def test_decay_times_of_every_octave(self) -> None:
        """Within 5 %, the just noticeable difference of reverberation time (ISO 3382-1, annex A).

        Noise in a narrow band scatters by itself, so several are told.
        """
        for decay_s in (0.5, 1.0, 3.0):
            found = [room_response(exponential(decay_s, seed=n), RATE_HZ) for n in range(8)]
            for name in ("t20_s", "t30_s"):
                octaves = np.array([[getattr(o, name) for o in one.octaves] for one in found])
                np.testing.assert_allclose(
                    octaves.mean(axis=0) / decay_s, 1.0, atol=0.05, err_msg=f"{decay_s} {name}"
                )
            for name in ("edt_s", "t30_s"):
                whole = np.array([getattr(one.whole, name) for one in found])
                np.testing.assert_allclose(whole / decay_s, 1.0, atol=0.05)

    def test_clarity_and_definition_of_an_exponential_decay(self) -> None:
        """C = 10 lg(e^(13.8 t / T) - 1), D = 1 - e^(-13.8 t / T): M. Barron & L.-J. Lee 1988."""
        for decay_s in (0.5, 1.2, 2.5):
            found = room_response(exponential(decay_s, seed=4), RATE_HZ).whole
            fall = 6.0 * np.log(10.0) / decay_s
            for told, at_s in ((found.c50_db, 0.05), (found.c80_db, 0.08)):
                assert told is not None
                self.assertAlmostEqual(told, 10.0 * np.log10(np.expm1(fall * at_s)), delta=0.3)
            assert found.d50 is not None
            self.assertAlmostEqual(found.d50, -np.expm1(-fall * 0.05), delta=0.02)

    def test_the_curve_falls_evenly_and_begins_at_the_onset(self) -> None:
        late = np.concatenate([np.zeros(4800), exponential(1.0)])
        found = room_response(late, RATE_HZ)
        self.assertAlmostEqual(found.curve_db[0], 0.0, delta=0.1)
        inside = (found.times_s > 0.1) & (found.times_s < 1.0)
        np.testing.assert_allclose(found.curve_db[inside], -60.0 * found.times_s[inside], atol=1.0)

    def test_two_slopes_have_an_early_decay_of_their_own(self) -> None:
        quick, slow = exponential(0.3, 6.0, 1), exponential(3.0, 6.0, 2) * 10.0 ** (-30.0 / 20.0)
        found = room_response(quick + slow, RATE_HZ).whole
        assert found.edt_s and found.t30_s
        self.assertLess(found.edt_s, 0.4)
        self.assertGreater(found.t30_s, 1.0)

    def test_density_is_one_for_noise_and_low_for_few_reflections(self) -> None:
        found = room_response(exponential(2.0), RATE_HZ)
        inside = (found.times_s > 0.05) & (found.times_s < 2.0)
        self.assertAlmostEqual(float(found.density[inside].mean()), 1.0, delta=0.05)
        few = np.zeros(RATE_HZ)
        few[:: RATE_HZ // 100] = 1.0
        self.assertLess(float(room_response(few, RATE_HZ).density[5:-5].mean()), 0.05)

    def test_what_is_short_or_silent_tells_nothing(self) -> None:
        silent = room_response(np.zeros(4800), RATE_HZ)
        self.assertEqual(len(silent.octaves), len(OCTAVES_HZ))
        for one in (silent.whole, *silent.octaves):
            self.assertEqual(set(vars(one).values()), {None})
        self.assertFalse(np.isnan(silent.curve_db).any() or np.isnan(silent.density).any())
        click = np.zeros(4800)
        click[10] = 1.0
        found = room_response(click, RATE_HZ).whole
        self.assertIsNone(found.t30_s)
        self.assertIsNone(found.c80_db)  # nothing is late
        self.assertEqual(found.d50, 1.0)


class Spaces(unittest.TestCase):
    def test_a_network_decays_as_it_is_set(self) -> None:
        for decay_s, size in ((0.8, 1.0), (2.0, 0.6), (4.0, 1.5)):
            reverb = NetworkReverb(decay_s=decay_s, treble_decay=1.0, size=size)
            for layout, channels in (("0+2+0", 2), ("0+5+0", 6)):
                bus = Bus(id="b", name="B", layout=layout, chain=(reverb,))
                found = room_response(tail_of(bus, channels, RATE_HZ)[0], RATE_HZ)
                times = np.array([one.t30_s for one in found.octaves[1:]])
                np.testing.assert_allclose(times.mean() / decay_s, 1.0, atol=0.05)
                np.testing.assert_allclose(times / decay_s, 1.0, atol=0.12)

    def test_the_room_alone_is_told_and_what_follows_it_counts(self) -> None:
        """A dry sound that passes would be all of the clarity; a delay after it changes nothing."""
        wet = NetworkReverb(decay_s=1.5)
        figures = []
        for chain in (
            (wet,),
            (wet.model_copy(update={"wet_only": False}),),
            (wet, Basics(delay_ms=-20.0)),
            (NetworkReverb(decay_s=9.0, bypassed=True), wet),
        ):
            bus = Bus(id="b", name="B", layout="0+2+0", chain=chain)
            figures.append(room_response(tail_of(bus, 2, RATE_HZ)[0], RATE_HZ).whole)
        for one in figures[1:]:
            assert one.t30_s and figures[0].t30_s and one.c80_db and figures[0].c80_db
            self.assertAlmostEqual(one.t30_s, figures[0].t30_s, delta=0.02)
            self.assertAlmostEqual(one.c80_db, figures[0].c80_db, delta=0.1)

    def test_a_click_is_answered_whatever_the_size_and_the_blocks(self) -> None:
        """The lines of a large room are longer than a block; nothing in them is thrown away."""
        for size in (0.2, 1.0, 1.5, 3.0):
            reverb = NetworkReverb(decay_s=2.0, size=size, predelay_ms=0.0)
            bus = Bus(id="b", name="B", layout="0+2+0", chain=(reverb,))
            tail = tail_of(bus, 2, RATE_HZ)[0]
            click = np.zeros((2, len(tail)), dtype=np.float32)
            click[0, 0] = 1.0
            np.testing.assert_array_equal(tail, reverb.apply(click, RATE_HZ)[0])
            self.assertGreater(float(np.sum(np.square(tail, dtype=float))), 0.1)


class Floors(unittest.TestCase):
    """Responses that end in noise, made of a decay and a floor that are known."""

    def response(self, decay_s: float, floor_db: float | None, seconds: float = 4.0) -> np.ndarray:
        random, at_s = np.random.default_rng(8), np.arange(round(seconds * 48000)) / 48000
        sound = random.standard_normal(len(at_s)) * 10.0 ** (-3.0 * at_s / decay_s)
        if floor_db is not None:
            sound = sound + random.standard_normal(len(at_s)) * 10.0 ** (floor_db / 20.0)
        return np.asarray(sound)

    def test_the_decay_is_told_as_if_there_were_no_noise(self) -> None:
        for decay_s in (0.4, 1.2, 2.5):
            for floor_db in (None, -70.0, -55.0, -48.0):
                told = room_response(self.response(decay_s, floor_db), 48000).whole
                with self.subTest(decay_s=decay_s, floor_db=floor_db):
                    self.assertAlmostEqual(told.t20_s or 0.0, decay_s, delta=0.05 * decay_s)
                    self.assertAlmostEqual(told.t30_s or 0.0, decay_s, delta=0.05 * decay_s)

    def test_none_is_told_where_the_noise_is_too_near(self) -> None:
        """ISO 3382-1, 5.3.3: T30 asks for noise 45 dB down, T20 for 35."""
        told = room_response(self.response(1.2, -40.0), 48000).whole
        self.assertIsNone(told.t30_s)
        self.assertAlmostEqual(told.t20_s or 0.0, 1.2, delta=0.08)
        told = room_response(self.response(1.2, -28.0), 48000).whole
        self.assertIsNone(told.t20_s)

    def test_one_that_is_shortened_is_as_short_as_it_says(self) -> None:
        """Its noise dies away with it: a floor at -45 dB, a decay of 1.2 s, half of it."""
        shorter = shaped(self.response(1.2, -45.0)[None], Shape(decay=0.5), 48000)[0]
        self.assertAlmostEqual(decay_time_s(shorter, 48000) or 0.0, 0.6, delta=0.04)
        quiet = np.flatnonzero(np.abs(shorter) > 1e-3 * np.abs(shorter).max())
        self.assertLess(quiet[-1] / 48000, 0.8)


class Foretold(unittest.TestCase):
    def test_what_is_foretold_of_a_room_counts_its_air(self) -> None:
        """Worked by hand: 1000 m3, 4 m V with ISO 9613-1 at 4 kHz, 20 degrees and 50 %."""
        room = Room(width_m=10.0, depth_m=10.0, height_m=10.0)
        dry = room.model_copy(update={"air": False})
        with_air, without = decay_by_sabine_s(room), decay_by_sabine_s(dry)
        place = list(BANDS_HZ).index(4000.0)
        per_m = 0.0297 / 4.343  # ISO 9613-1, table 1: 29.7 dB a kilometre (from memory)
        by_hand = 0.161 * 1000.0 / (0.161 * 1000.0 / without[place] + 4.0 * per_m * 1000.0)
        self.assertAlmostEqual(with_air[place], by_hand, delta=0.02 * by_hand)
        self.assertLess(with_air[place], 0.95 * without[place])
        np.testing.assert_array_less(decay_by_eyring_s(room), decay_by_eyring_s(dry) + 1e-9)
