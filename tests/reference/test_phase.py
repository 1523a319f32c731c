"""What a chain does to phase, against filters of a general library and against its own formulas."""

import unittest

import numpy as np
from scipy.signal import butter, group_delay, sosfreqz

from metaphon.core.engine.chain_response import (
    FREQUENCIES_HZ,
    magnitude_db,
    response_of,
)
from metaphon.core.process.basics import Basics
from metaphon.core.process.eq import Band, Eq
from metaphon.core.process.network_reverb import NetworkReverb
from metaphon.core.process.processor import Processor
from metaphon.core.process.resonator import Resonator
from tests.sounds import RATE_HZ

_BANDS = (
    Band(shape="bell", frequency_hz=1000.0, gain_db=9.0, q=2.0),
    Band(shape="low_cut", frequency_hz=80.0, slope_db="24"),
    Band(shape="high_shelf", frequency_hz=6000.0, gain_db=-6.0),
)
_CHAINS: tuple[tuple[Processor, ...], ...] = (
    (Eq(bands=_BANDS),),
    (Basics(delay_ms=1.37, polarity_inverted=True, output_gain_db=-6.0),),
    (Basics(delay_ms=-2.0, low_cut=True), Resonator(frequency_hz=700.0), Eq(bands=_BANDS)),
    (Eq(bands=_BANDS[:1], phase="linear"),),
)


class Phase(unittest.TestCase):
    def test_what_is_measured_is_what_is_computed(self) -> None:
        """Within 0.1 dB and 1 degree, where anything passes; to 18 kHz, as delays go."""
        for chain in _CHAINS:
            found = response_of(chain, RATE_HZ)
            assert found.computed is not None
            seen = (np.abs(found.computed) > 10.0 ** (-40.0 / 20.0)) & (FREQUENCIES_HZ < 18000.0)
            with self.subTest([one.title for one in chain]):
                off = magnitude_db(found.measured) - magnitude_db(found.computed)
                self.assertLess(np.abs(off[seen]).max(), 0.1)
                turned = np.degrees(np.angle(found.measured / found.computed))
                self.assertLess(np.abs(turned[seen]).max(), 1.0)

    def test_a_butterworth_cut_has_the_phase_and_delay_of_a_general_library(self) -> None:
        eq = Eq(bands=(Band(shape="low_cut", frequency_hz=200.0, slope_db="24"),))
        whole = response_of((eq,), RATE_HZ)
        found = whole.computed
        assert found is not None
        sos = butter(4, 200.0, "highpass", fs=RATE_HZ, output="sos")
        _, wanted = sosfreqz(sos, FREQUENCIES_HZ, fs=RATE_HZ)
        apart = np.degrees(np.angle(found / wanted))
        self.assertLess(np.abs(apart[FREQUENCIES_HZ < 10000.0]).max(), 1.0)
        places = FREQUENCIES_HZ[(FREQUENCIES_HZ > 100.0) & (FREQUENCIES_HZ < 5000.0)]
        # section by section, since that of the whole is ill-conditioned
        delays = sum(group_delay((one[:3], one[3:]), places, fs=RATE_HZ)[1] for one in sos)
        ours = np.interp(places, FREQUENCIES_HZ, whole.group_delay_ms)
        np.testing.assert_allclose(ours, delays / RATE_HZ * 1000.0, atol=0.02)

    def test_a_delay_is_a_straight_phase_and_polarity_half_a_turn(self) -> None:
        found = response_of((Basics(delay_ms=1.0),), RATE_HZ)
        np.testing.assert_allclose(found.group_delay_ms, 1.0, atol=1e-6)
        unwrapped = found.phase_deg(unwrapped=True)
        slope = np.diff(unwrapped) / np.diff(FREQUENCIES_HZ)
        np.testing.assert_allclose(slope, -0.36, atol=1e-6)  # 360 degrees a ms a kHz
        far = response_of((Basics(delay_ms=150.0),), RATE_HZ)
        np.testing.assert_allclose(far.group_delay_ms, 150.0, atol=1e-4)
        turned = response_of((Basics(polarity_inverted=True),), RATE_HZ).measured
        np.testing.assert_allclose(np.abs(np.degrees(np.angle(turned))), 180.0, atol=0.5)

    def test_linear_phase_has_no_delay_by_frequency_but_an_echo_ahead(self) -> None:
        deep = (Band(shape="bell", frequency_hz=100.0, gain_db=15.0, q=6.0),)
        found = response_of((Eq(bands=deep, phase="linear", length_ms="320"),), RATE_HZ)
        self.assertLess(np.abs(found.group_delay_ms).max(), 0.05)
        self.assertEqual(found.latency, round(0.16 * RATE_HZ))
        minimum = response_of((Eq(bands=deep),), RATE_HZ)
        self.assertEqual(minimum.latency, 0)
        self.assertGreater(found.pre_echo_db, minimum.pre_echo_db + 20.0)

    def test_what_has_no_formula_is_measured_alone(self) -> None:
        found = response_of((NetworkReverb(),), RATE_HZ, 2)
        self.assertIsNone(found.computed)
        self.assertTrue(np.isfinite(found.group_delay_ms).all())
        self.assertTrue(np.isfinite(magnitude_db(found.measured)).all())
        nothing = response_of((), RATE_HZ)
        np.testing.assert_allclose(magnitude_db(nothing.measured), 0.0, atol=0.02)
