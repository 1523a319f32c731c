"""Decay, clarity and density against responses whose figures are known by formula."""

import unittest

import numpy as np

from metaphon.core.document.mix import Bus
from metaphon.core.engine.tail import tail_of
from metaphon.core.measure.room_response import OCTAVES_HZ, room_response
from metaphon.core.process.basics import Basics
from metaphon.core.process.network_reverb import NetworkReverb
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
