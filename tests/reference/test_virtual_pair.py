"""Two sources round a head: time and level at the ears against the sphere, and no clicks."""

import unittest

import numpy as np

from metaphon.core.dsp.motion import PIECE, Motion
from metaphon.core.measure.alignment import align
from metaphon.core.process.processor import Channels
from metaphon.core.process.virtual_pair import VirtualPair
from metaphon.core.spatial.ears import EAR_M, MEASURED_M, for_each_ear
from tests.sounds import RATE_HZ, FolderTest, noise, sine

_LEFT_ONLY = np.array([[1.0], [0.0]])
_SOUND_M_S = 343.0


def level_db(sound: np.ndarray) -> np.ndarray:
    return np.asarray(20.0 * np.log10(np.std(sound, axis=-1) + 1e-12))


class Ears(unittest.TestCase):
    def setUp(self) -> None:
        self.sound = noise(1, 1.024).astype(np.float32)

    def ears(self, sound: np.ndarray | None = None, **settings: object) -> np.ndarray:
        """What both ears hear of the left channel, without the latency."""
        pair = VirtualPair(**settings)  # type: ignore[arg-type]
        given = _LEFT_ONLY * (self.sound if sound is None else sound)
        out = pair.apply(given.astype(np.float32), RATE_HZ)
        return out[:, pair.latency_samples(RATE_HZ) :]

    def lead_ms(self, ears: np.ndarray) -> float:
        """How much earlier the left ear hears."""
        found = align(ears[0], ears[1], RATE_HZ)
        assert found
        return found.delay_ms

    def test_by_level_and_time_the_far_side_is_late_by_woodworth_and_soft_by_blumlein(self) -> None:
        """Woodworth & Schlosberg 1954: r/c (a + sin a); Blumlein 1931: levels by the sine."""
        for angle in (-60.0, -20.0, 0.0, 10.0, 45.0, 80.0, 135.0):
            ears = self.ears(method="level_time", left_deg=angle)
            aside = np.arcsin(np.sin(np.radians(angle)))
            wanted = EAR_M / _SOUND_M_S * (aside + np.sin(aside)) * 1000.0
            self.assertAlmostEqual(self.lead_ms(ears), wanted, delta=0.1 / 48.0, msg=str(angle))
            tone = self.ears(sine(1000.0, 1.024, -20.0)[None], method="level_time", left_deg=angle)
            power = np.var(tone[:, 4800:], axis=1) / 0.005  # of a sine of -20 dBFS
            self.assertAlmostEqual(float(power.sum()), 1.0, delta=0.02)
            side = np.sin(np.radians(angle))
            self.assertAlmostEqual(float(power[0] - power[1]), side, delta=0.02)

    def test_by_a_head_the_near_ear_leads_as_a_sphere_lets_it(self) -> None:
        """Measured heads lie about a tenth of a millisecond round Woodworth's (from memory)."""
        for angle in (0.0, 30.0, 60.0, 90.0):
            aside = np.radians(angle)
            sphere = EAR_M / _SOUND_M_S * (aside + np.sin(aside)) * 1000.0
            one, other = self.ears(left_deg=angle), self.ears(left_deg=-angle)
            self.assertAlmostEqual(self.lead_ms(one), sphere, delta=0.12)
            # the measured head is the same on both sides
            np.testing.assert_allclose(one, other[::-1], atol=2e-3)
            if angle:
                self.assertGreater(level_db(one)[0], level_db(one)[1] + 3.0)

    def test_far_is_softer_by_distance_and_near_is_nearest_to_its_ear(self) -> None:
        """Inverse distance to the ear; Romblom & Cook 2008 for the rest."""
        far, farther = (level_db(self.ears(distance_m=d)).max() for d in (5.0, 10.0))
        self.assertAlmostEqual(far - farther, 6.02, delta=0.2)
        for distance in (0.25, 0.5, MEASURED_M):
            _, (near, shaded) = for_each_ear(90.0, distance)
            self.assertAlmostEqual(near, (MEASURED_M - EAR_M) / (distance - EAR_M), places=6)
            self.assertAlmostEqual(shaded, (MEASURED_M + EAR_M) / (distance + EAR_M), places=6)
        at_once, _ = for_each_ear(30.0, MEASURED_M)
        np.testing.assert_allclose(at_once[0], at_once[1], atol=1e-9)  # as it was measured

    def test_crossed_is_the_other_way_round_and_exchanged_ears_are_exchanged(self) -> None:
        both = noise(2, 1.024, 4).astype(np.float32)
        for method in ("binaural", "level_time"):
            plain = VirtualPair(method=method, left_deg=50.0, right_deg=-20.0)
            crossed = plain.model_copy(update={"left_deg": -20.0, "right_deg": 50.0})
            one = plain.apply(both, RATE_HZ)
            np.testing.assert_allclose(crossed.apply(both[::-1], RATE_HZ), one, atol=1e-5)
            exchanged = plain.model_copy(update={"ears_exchanged": True})
            np.testing.assert_allclose(exchanged.apply(both, RATE_HZ), one[::-1], atol=1e-5)
            narrow = plain.model_copy(update={"width": 0.0}).apply(both, RATE_HZ)
            mid = np.repeat(both.mean(axis=0, keepdims=True), 2, axis=0)
            np.testing.assert_allclose(narrow, plain.apply(mid, RATE_HZ), atol=1e-5)


class Moving(unittest.TestCase):
    def played(self, motions: list[Motion[VirtualPair]], sound: np.ndarray) -> np.ndarray:
        late = motions[0].values[0].latency_samples(RATE_HZ)
        running = motions[0].values[0].start(Channels(len(sound)), RATE_HZ, late)
        parts = [
            running.process(sound[:, n * PIECE : (n + 1) * PIECE], motion, n * PIECE)
            for n, motion in enumerate(motions)
        ]
        return np.concatenate(parts, axis=1)

    def test_angles_distance_method_and_ears_move_without_a_click(self) -> None:
        tone = np.repeat(sine(300.0, 1.0, -20.0)[None], 2, axis=0).astype(np.float32)
        still = Motion.still(VirtualPair())
        steepest = np.abs(np.diff(self.played([still] * 30, tone)[:, 4000:], 2)).max()
        for change in (
            {"left_deg": 60.0},
            {"distance_m": 1.0},
            {"method": "level_time"},
            {"ears_exchanged": True, "right_deg": -40.0},
            {"width": 0.0},
        ):
            after = VirtualPair(**change)
            passing = Motion((0, PIECE), (VirtualPair(), after))
            back = Motion((0, PIECE), (after, VirtualPair()))
            motions = [*[still] * 8, passing, *[Motion.still(after)] * 8, back, *[still] * 8]
            out = self.played(motions, tone)[:, 4000:]
            self.assertLess(np.abs(np.diff(out, 2)).max(), 2.0 * steepest, change)
            np.testing.assert_allclose(  # and nothing of it is left
                out[:, -4 * PIECE :], self.played([still] * 26, tone)[:, -4 * PIECE :], atol=1e-5
            )

    def test_silence_is_silence_and_what_is_not_stereo_passes(self) -> None:
        pair = VirtualPair(left_deg=77.0)
        self.assertFalse(pair.apply(np.zeros((2, 4 * PIECE), dtype=np.float32), RATE_HZ).any())
        mono = noise(1, 0.5)[:, : 16 * PIECE].astype(np.float32)
        late = pair.latency_samples(RATE_HZ)
        np.testing.assert_array_equal(pair.apply(mono, RATE_HZ)[:, late:], mono[:, :-late])


class OnATrack(FolderTest):
    def test_a_mono_track_has_two_sides_once_a_processor_needs_them(self) -> None:
        self.write("a.wav", noise(1, 1.0))
        plain = self.rendered(self.mix([{"sound": "a.wav"}]), "0+2+0")
        for chain in ([{"kind": "virtual_pair", "bypassed": True}], [{"kind": "widener"}]):
            mix = self.mix([{"sound": "a.wav", "chain": chain}])
            out = self.rendered(mix, "0+2+0")[:, : plain.shape[1]]
            np.testing.assert_allclose(out.sum(axis=0), plain.sum(axis=0), atol=2e-7)
        self.assertGreater(level_db(out[0] - out[1]), level_db(out[0]) - 6.0)

    def test_a_block_may_be_of_any_length(self) -> None:
        self.write("a.wav", noise(2, 1.0))
        mix = self.mix(
            [{"id": "t", "sound": "a.wav", "chain": [{"kind": "virtual_pair"}]}],
            automation=[
                {
                    "target": "t/chain/0/left_deg",
                    "points": [{"t_s": 0.2, "value": -90.0}, {"t_s": 0.8, "value": 90.0}],
                }
            ],
        )
        one, other = (self.rendered(mix, "0+2+0", n * PIECE) for n in (1, 16))
        np.testing.assert_array_equal(one, other)
