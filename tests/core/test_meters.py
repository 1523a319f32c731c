"""Live meters: what they say of known sounds."""

import unittest
from base64 import b64decode

import numpy as np

from metaphon.core.document.targets import target_named
from metaphon.core.listen.meters import STEP_FRAMES, Meters
from metaphon.core.measure.loudness import LoudnessMeter
from metaphon.core.measure.programme import ProgrammeMeter
from metaphon.core.measure.thirds import MIDDLES_HZ
from metaphon.core.spatial.layouts import LAYOUTS
from tests.sounds import RATE_HZ, noise, sine


def read(target: str, sound: np.ndarray, ears: np.ndarray | None = None) -> tuple[dict, list[dict]]:
    """The last readings of a whole sound, and its steps."""
    meters = Meters(target_named(target), RATE_HZ)
    sound = sound.astype(np.float32)
    pair = sound[:2] if ears is None else ears.astype(np.float32)
    steps: list[dict] = []
    for at in range(0, sound.shape[1] - 2047, 2048):
        readings = meters.read(sound[:, at : at + 2048], pair[:, at : at + 2048])
        steps += readings["steps"]
    return readings, steps


class Pair(unittest.TestCase):
    def test_the_same_figures_as_the_programme_meter(self) -> None:
        sound = noise(2, 12.0) * np.linspace(0.1, 1.0, 12 * RATE_HZ)
        readings, _ = read("0+2+0", sound)
        whole = ProgrammeMeter(2, RATE_HZ, LAYOUTS["0+2+0"])
        whole.add(sound[:, : sound.shape[1] // 2048 * 2048].astype(np.float32))
        figures = whole.finish()
        self.assertAlmostEqual(readings["integrated"], figures.integrated_lufs, delta=0.06)
        self.assertAlmostEqual(
            readings["range"], figures.loudness_range_lu, delta=0.6
        )  # read twice a second
        self.assertAlmostEqual(max(readings["true_peak"]), figures.true_peak_dbtp, delta=0.06)
        loudness = LoudnessMeter(np.ones(2), RATE_HZ)
        loudness.add(sound[:, : sound.shape[1] // 2048 * 2048].astype(np.float32))
        self.assertAlmostEqual(readings["momentary"], loudness.momentary_now_lufs, delta=0.06)

    def test_levels_of_a_sine(self) -> None:
        """RMS of a sine lies 3.01 dB below its peak."""
        _, steps = read("0+2+0", np.stack([sine(997, 1.0, -12.0), sine(997, 1.0, -20.0)]))
        self.assertEqual(steps[-1]["peak"], [-12.0, -20.0])
        np.testing.assert_allclose(steps[-1]["rms"], [-15.0, -23.0], atol=0.11)
        self.assertAlmostEqual(steps[-1]["balance"], 8.0, delta=0.1)
        self.assertEqual(len(steps), RATE_HZ // 2048 * 2048 // STEP_FRAMES)

    def test_the_trace_is_left_against_right(self) -> None:
        """A sine whose right is upside down and half as loud lies on one slanted line."""
        tone = sine(997, 0.2, -6.0)
        _, steps = read("0+2+0", np.stack([tone, -0.5 * tone]))
        pairs = np.frombuffer(b64decode(steps[2]["trace"]), np.int8).reshape(-1, 2)
        self.assertEqual(len(pairs), 256)
        self.assertAlmostEqual(steps[2]["top"], 10 ** (-6 / 20), delta=0.01)
        self.assertEqual(int(np.abs(pairs[:, 0]).max()), 127)
        np.testing.assert_allclose(pairs[:, 1], -0.5 * pairs[:, 0], atol=1.0)

    def test_correlation_and_its_worst(self) -> None:
        one = noise(1, 1.0)[0]
        turned = np.concatenate(
            [np.stack([one, one]), np.stack([one, -one]), *[np.stack([one, one])] * 3], axis=1
        )
        readings, steps = read("0+2+0", turned)
        self.assertGreater(steps[-1]["correlation"], 0.99)
        self.assertLess(readings["worst"], -0.9)
        silent, steps = read("0+2+0", np.zeros((2, 4096)))
        self.assertIsNone(steps[0]["correlation"])
        self.assertIsNone(silent["integrated"])
        self.assertIsNone(silent["energy"])

    def test_bands_tell_where_the_trouble_is(self) -> None:
        """Alike at 4 kHz, opposed at 200 Hz.

        The sum loses everything at 200 Hz and nothing at 4 kHz.
        """
        low, high = sine(200, 1.0, -12), sine(4000, 1.0, -12)
        readings, _ = read("0+2+0", np.stack([low + high, high - low]))
        at = lambda hz: int(np.argmin(np.abs(MIDDLES_HZ - hz)))  # noqa: E731
        self.assertGreater(readings["bands"][at(4000)], 0.99)
        self.assertLess(readings["bands"][at(200)], -0.99)
        self.assertGreater(readings["loss"][at(200)], 20.0)
        self.assertLess(readings["loss"][at(4000)], 0.1)

    def test_overs_count_and_reset(self) -> None:
        meters = Meters(target_named("0+2+0"), RATE_HZ)
        loud = np.zeros((2, 2048), dtype=np.float32)
        loud[1, 100:103] = 1.5
        self.assertEqual(meters.read(loud, loud)["overs"], [0, 3])
        self.assertEqual(meters.read(loud * 0, loud * 0)["overs"], [0, 3])
        meters.reset()
        self.assertEqual(meters.read(loud * 0, loud * 0)["overs"], [0, 0])


class Around(unittest.TestCase):
    def test_energy_vector_points_at_what_sounds(self) -> None:
        """Gerzon's r_E: one loudspeaker gives its own direction and length 1.

        Two alike the middle, shorter.
        """
        for label, azimuth, elevation in (("M+110", 110.0, 0.0), ("U-045", -45.0, 30.0)):
            layout = LAYOUTS["4+7+0" if label[0] == "U" else "0+5+0"]
            sound = np.zeros((layout.channels, 48000))
            sound[layout.labels.index(label)] = noise(1, 1.0)[0]
            energy = read(layout.name, sound, sound[:2])[0]["energy"]
            self.assertAlmostEqual(energy["azimuth_deg"], azimuth, places=1)
            self.assertAlmostEqual(energy["elevation_deg"], elevation, places=1)
            self.assertAlmostEqual(energy["length"], 1.0, places=3)
        sound = np.zeros((6, 48000))
        sound[:2] = noise(2, 1.0)
        energy = read("0+5+0", sound)[0]["energy"]
        self.assertAlmostEqual(energy["length"], np.cos(np.radians(30)), delta=0.01)
        self.assertEqual(energy["front_rear"], 40.0)
        self.assertIsNone(energy["level_height"])  # there is nothing above to weigh against
        pair = read("0+2+0", noise(2, 1.0))[0]["energy"]
        self.assertIsNone(pair["front_rear"])

    def test_what_a_stereo_listener_loses(self) -> None:
        """ITU-R BS.775-4: the centre comes at -3 dB in both sides, so nothing is lost.

        A surround loses 3 dB.
        """
        for channel, lost in ((0, 0.0), (2, 0.0), (4, 3.01)):
            sound = np.zeros((6, 48000))
            sound[channel] = noise(1, 1.0)[0]
            loss = read("0+5+0", sound, sound[:2])[0]["loss_stereo"]
            np.testing.assert_allclose(
                [value for value in loss if value is not None], lost, atol=0.06
            )
        opposed = np.zeros((6, 48000))
        opposed[0], opposed[4] = noise(1, 1.0)[0], -noise(1, 1.0)[0] * np.sqrt(2)
        self.assertGreater(min(read("0+5+0", opposed, opposed[:2])[0]["loss_stereo"]), 15.0)

    def test_the_matrix_of_pairs(self) -> None:
        one, other = noise(2, 1.0)
        sound = np.stack([one, -one, other, one * 0, other * 0.5, other * 0.5 + one * 0.5])
        matrix = read("0+5+0", sound)[0]["matrix"]
        self.assertEqual(matrix[0][1], -1.0)
        self.assertEqual(matrix[2][4], 1.0)
        self.assertIsNone(matrix[0][3])
        self.assertAlmostEqual(matrix[0][5], np.sqrt(0.5), delta=0.05)
