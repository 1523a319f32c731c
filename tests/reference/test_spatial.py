"""Panning, fold-down, ambisonics and the measured head against their published sources."""

import unittest
from itertools import product

import numpy as np
import sofar
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.special import sph_harm_y

from metaphon.core.errors import InputError
from metaphon.core.spatial.ambisonics import encode, order_of, sphere_grid
from metaphon.core.spatial.binaural import scene_responses
from metaphon.core.spatial.decoding import decode_matrix, max_re_weights
from metaphon.core.spatial.directions import angles_of, unit_vectors, wrap_azimuth
from metaphon.core.spatial.downmix import conversion, fold_power
from metaphon.core.spatial.extent import around
from metaphon.core.spatial.head import SHIPPED, load_head
from metaphon.core.spatial.layouts import LAYOUTS, Layout, layout_for_channels, layout_named
from metaphon.core.spatial.panning import constant_power, normalised, pan_vectors, vector_pan
from metaphon.core.spatial.room_cube import to_cube, to_sphere

FIVE = LAYOUTS["0+5+0"]
angles = st.tuples(st.floats(-180, 180), st.floats(-90, 90))
wide_layouts = st.sampled_from([name for name, layout in LAYOUTS.items() if layout.channels > 3])


class Directions(unittest.TestCase):
    def test_axes(self) -> None:
        """ITU-R BS.2076: azimuth positive to the left, x right, y front, z up."""
        np.testing.assert_allclose(
            unit_vectors([0, 90, 180], 0), [[0, 1, 0], [-1, 0, 0], [0, -1, 0]], atol=1e-12
        )
        np.testing.assert_allclose(unit_vectors(0, 90), [0, 0, 1], atol=1e-12)

    def test_wrap(self) -> None:
        np.testing.assert_allclose(
            wrap_azimuth([190, -190, 180, -180, 540]), [-170, 170, 180, 180, 180]
        )

    def test_an_extent_reaches_half_its_width_and_height(self) -> None:
        filled = around(40.0, 25.0, 60.0, 60.0)
        away = np.degrees(np.arccos(np.clip(filled @ unit_vectors(40.0, 25.0), -1, 1)))
        self.assertTrue(25.0 < away.max() < 30.0)  # the outermost points stand for what is round
        np.testing.assert_allclose(np.linalg.norm(filled, axis=1), 1.0, atol=1e-12)
        flat = around(0.0, 0.0, 80.0, 0.0)
        np.testing.assert_allclose(flat[:, 2], 0.0, atol=1e-12)
        aside = np.degrees(np.arctan2(-flat[:, 0], flat[:, 1]))
        self.assertAlmostEqual(np.std(aside), 80.0 / np.sqrt(12.0), delta=0.5)  # even


def wide(azimuth_deg: float, elevation_deg: float, extent_deg: float, layout: Layout) -> np.ndarray:
    """The gains of a source of an extent: the power of all its directions."""
    spread = pan_vectors(around(azimuth_deg, elevation_deg, extent_deg, extent_deg), layout)
    return normalised(np.sqrt(np.mean(spread**2, axis=0)))


class Layouts(unittest.TestCase):
    def test_channel_order_of_5_1_and_7_1_4(self) -> None:
        """ITU-R BS.2051-3, systems B and J."""
        self.assertEqual(FIVE.labels, ("M+030", "M-030", "M+000", "LFE1", "M+110", "M-110"))
        self.assertEqual(
            LAYOUTS["4+7+0"].labels[6:], ("M+135", "M-135", "U+045", "U-045", "U+135", "U-135")
        )
        self.assertEqual(LAYOUTS["9+10+3"].channels, 24)

    def test_unknown_layout_names_the_known(self) -> None:
        with self.assertRaisesRegex(
            InputError, r"no loudspeaker layout 5\.1; use one of .*0\+5\+0"
        ):
            layout_named("5.1")

    def test_channels_without_a_layout(self) -> None:
        with self.assertRaisesRegex(InputError, "7 channels fit no"):
            layout_for_channels(7)


class Panning(unittest.TestCase):
    def test_tangent_law(self) -> None:
        """Pulkki 1997: at +/-30 degrees (gL - gR) / (gL + gR) = tan(theta) / tan(30)."""
        for theta in (-25.0, -10.0, 0.0, 5.0, 20.0):
            left, right = vector_pan(theta, 0, LAYOUTS["0+2+0"])
            wanted = np.tan(np.radians(theta)) / np.tan(np.radians(30))
            self.assertAlmostEqual((left - right) / (left + right), wanted, places=9)

    def test_constant_power_centre_is_minus_3_db(self) -> None:
        np.testing.assert_allclose(constant_power(0, LAYOUTS["0+2+0"]), [np.sqrt(0.5)] * 2)

    def test_energy_vector_of_a_stereo_centre(self) -> None:
        """Gerzon 1992: two loudspeakers at +/-30 with equal gains, |rE| = cos 30."""
        layout = LAYOUTS["0+2+0"]
        gains = vector_pan(0, 0, layout)
        length = np.linalg.norm(gains**2 @ layout.vectors / np.sum(gains**2))
        self.assertAlmostEqual(length, 0.8660, places=4)

    @settings(deadline=None)
    @given(angles, wide_layouts)
    def test_energy_is_kept_and_nothing_reaches_the_lfe(
        self, angle: tuple[float, float], name: str
    ) -> None:
        layout = LAYOUTS[name]
        for gains in (
            vector_pan(*angle, layout),
            constant_power(angle[0], layout),
            wide(*angle, 40, layout),
        ):
            self.assertAlmostEqual(float(np.sum(gains**2)), 1.0, places=6)
            self.assertTrue((gains >= 0).all())
            self.assertEqual(sum(gains[i] for i, lfe in enumerate(layout.is_lfe) if lfe), 0.0)

    @settings(deadline=None)
    @given(angles, wide_layouts)
    def test_left_and_right_are_treated_alike(self, angle: tuple[float, float], name: str) -> None:
        layout = LAYOUTS[name]
        mirrored = vector_pan(-angle[0], angle[1], layout)[list(layout.mirror)]
        np.testing.assert_allclose(vector_pan(*angle, layout), mirrored, atol=1e-6)

    @settings(deadline=None)
    @given(wide_layouts)
    def test_a_loudspeakers_own_direction_is_itself(self, name: str) -> None:
        layout = LAYOUTS[name]
        for index in layout.main:
            gains = vector_pan(*layout.angles_deg[index], layout)
            self.assertAlmostEqual(gains[index], 1.0, places=6)

    def test_extent_shortens_the_energy_vector(self) -> None:
        """Pulkki 1999: energy is kept, the image grows wider."""
        lengths = []
        for extent in (0, 60, 120, 180):
            gains = wide(20, 10, extent, LAYOUTS["9+10+3"])
            lengths.append(np.linalg.norm(gains**2 @ LAYOUTS["9+10+3"].vectors))
        self.assertEqual(lengths, sorted(lengths, reverse=True))
        self.assertLess(lengths[-1], lengths[0] - 0.3)


class FoldDown(unittest.TestCase):
    def test_5_1_to_stereo(self) -> None:
        """ITU-R BS.775-4, table 2: L + 0.7071 C + 0.7071 Ls, LFE left out."""
        half = np.sqrt(0.5)
        wanted = [[1, 0, half, 0, half, 0], [0, 1, half, 0, 0, half]]
        np.testing.assert_allclose(conversion("0+5+0", "0+2+0"), wanted)

    def test_5_1_to_mono(self) -> None:
        """ITU-R BS.775-4, table 2: 0.7071 L and R, C, 0.5 Ls and Rs."""
        half = np.sqrt(0.5)
        np.testing.assert_allclose(conversion("0+5+0", "0+1+0"), [[half, half, 1, 0, 0.5, 0.5]])

    def test_a_layout_into_itself_is_untouched(self) -> None:
        for name, layout in LAYOUTS.items():
            np.testing.assert_array_equal(conversion(name, name), np.eye(layout.channels))

    def test_sides_stay_sides_and_neighbours_agree(self) -> None:
        """No loudspeaker of one side is heard from the other; surrounds fold down alike (BS.775-4:
        0.7071), whatever their angle and layer, and fronts are kept.
        """
        for source, target in product(LAYOUTS, ("0+2+0", "0+3+0", "0+5+0", "0+7+0", "4+7+0")):
            one, other = LAYOUTS[source], LAYOUTS[target]
            matrix = conversion(source, target)
            for channel in one.main:
                azimuth = one.angles_deg[channel][0]
                if azimuth in (0.0, 180.0, -180.0) or abs(azimuth) < 20.0:
                    continue
                across = [i for i in other.main if other.angles_deg[i][0] * azimuth < 0.0]
                self.assertEqual(np.abs(matrix[across, channel]).max(initial=0.0), 0.0)
                if target == "0+2+0":
                    wanted = 1.0 if abs(azimuth) <= 60.0 else np.sqrt(0.5)
                    self.assertAlmostEqual(np.linalg.norm(matrix[:, channel]), wanted)

    def test_an_object_folds_down_as_a_bed_does(self) -> None:
        """At every loudspeaker of 7.1.4, in stereo, within 0.8 dB."""
        layout = LAYOUTS["4+7+0"]
        matrix = conversion("4+7+0", "0+2+0")
        for channel in layout.main:
            object_power = fold_power(layout.vectors[channel], LAYOUTS["0+2+0"])
            bed_power = np.sum(matrix[:, channel] ** 2)
            self.assertAlmostEqual(10 * np.log10(object_power / bed_power), 0.0, delta=0.8)

    def test_mono_in_a_bed_follows_its_elevation(self) -> None:
        layout = LAYOUTS["4+7+0"]
        for azimuth in (0.0, 45.0, -135.0, 100.0):
            for elevation, above in ((0.0, 0.0), (15.0, 0.5), (30.0, 1.0), (80.0, 1.0)):
                power = constant_power(azimuth, layout, elevation) ** 2
                high = [i for i in layout.main if layout.angles_deg[i][1] == 30.0]
                self.assertAlmostEqual(power[high].sum(), above)
                self.assertAlmostEqual(power.sum(), 1.0)

    def test_what_has_no_loudspeaker_near_comes_from_the_nearest(self) -> None:
        """Layers that are missing, and loudspeakers on one side only (BS.2127-1, 6.1: virtual
        loudspeakers): the whole energy, without steps, from the part of the sphere that is right.
        """
        below = vector_pan(180.0, -60.0, LAYOUTS["9+10+3"]) ** 2
        rear = [LAYOUTS["9+10+3"].labels.index(n) for n in ("M+180", "M+135", "M-135")]
        self.assertGreater(below[rear].sum(), 0.6)
        heights = vector_pan(135.0, 30.0, LAYOUTS["2+7+0"]) ** 2
        self.assertLess(heights[LAYOUTS["2+7+0"].labels.index("U-090")], 1e-6)
        one_sided = layout_named("own:left;A=30,0;B=90,0;C=150,0")
        for layout in (*LAYOUTS.values(), one_sided, layout_named("own:two;A=30,0;B=60,0")):
            azimuth = np.arange(-180.0, 181.0)
            for elevation in (-80.0, -30.0, 0.0, 20.0, 70.0):
                power = vector_pan(azimuth, np.full_like(azimuth, elevation), layout) ** 2
                np.testing.assert_allclose(power.sum(axis=1), 1.0, atol=1e-9)
                self.assertLess(np.abs(np.diff(power, axis=0)).max(), 0.2)

    def test_no_channel_comes_out_louder(self) -> None:
        for source in LAYOUTS:
            for target in ("0+2+0", "0+5+0", "0+7+0"):
                self.assertLessEqual(
                    np.linalg.norm(conversion(source, target), axis=0).max(), 1.0 + 1e-9
                )

    def test_mono_into_a_bed_is_panned(self) -> None:
        np.testing.assert_allclose(
            constant_power(-110.0, LAYOUTS["0+5+0"]), [0, 0, 0, 0, 0, 1], atol=1e-9
        )


class Ambisonics(unittest.TestCase):
    def test_first_order(self) -> None:
        """AmbiX, Nachbar et al. 2011: front W 1, Y 0, Z 0, X 1; left Y 1."""
        np.testing.assert_allclose(encode(0, 0, 1), [1, 0, 0, 1], atol=1e-12)
        np.testing.assert_allclose(encode(90, 0, 1), [1, 1, 0, 0], atol=1e-12)
        np.testing.assert_allclose(encode(0, 90, 1), [1, 0, 1, 0], atol=1e-12)

    def test_higher_orders_against_scipy(self) -> None:
        """scipy's complex harmonics, made real and scaled to SN3D."""
        azimuth, elevation = 37.0, -21.0
        got = encode(azimuth, elevation, 3)
        for n in range(4):
            for m in range(-n, n + 1):
                value = sph_harm_y(
                    n, abs(m), np.pi / 2 - np.radians(elevation), np.radians(azimuth)
                )
                real = value.real if m >= 0 else value.imag
                scale = np.sqrt(4 * np.pi / (2 * n + 1)) * (1 if m == 0 else np.sqrt(2) * (-1) ** m)
                self.assertAlmostEqual(got[n * n + n + m], real * scale, places=9)

    def test_max_re_weights(self) -> None:
        """Zotter & Frank 2012: P_n(cos(137.9 deg / (N + 1.51))); N = 1 by hand.

        Cos(54.94 deg) = 0.5744.
        """
        np.testing.assert_allclose(max_re_weights(1), [1.0, 0.5744], atol=1e-4)

    def test_grid_integrates_harmonics_to_nothing(self) -> None:
        azimuth, elevation, weights = sphere_grid()
        np.testing.assert_allclose(
            weights @ encode(azimuth, elevation, 5), np.eye(36)[0], atol=1e-12
        )

    def test_a_scene_is_heard_where_it_was_encoded(self) -> None:
        """Third order on 9+10+3.

        The energy vector points within 12 degrees of the source, level within 3 dB.
        """
        layout = LAYOUTS["9+10+3"]
        decode = decode_matrix(3, layout)
        for azimuth in range(-180, 180, 30):
            gains = decode @ encode(azimuth, 0, 3)
            energy = gains**2 @ layout.vectors
            error = np.degrees(
                np.arccos(np.clip(energy @ unit_vectors(azimuth) / np.linalg.norm(energy), -1, 1))
            )
            self.assertLess(error, 12.0)
            self.assertLess(abs(10 * np.log10(np.sum(gains**2))), 3.0)

    def test_channels_that_are_no_scene(self) -> None:
        with self.assertRaisesRegex(InputError, "up to 64 channels, this has 6"):
            order_of(6)


def itd_ms(responses: np.ndarray) -> np.ndarray:
    """How much later the right ear hears, by cross-correlation below 1.5 kHz, (directions)."""
    size = 1 << 13
    left, right = np.fft.rfft(responses, size).swapaxes(0, 1)
    cross = left.conj() * right * (np.fft.rfftfreq(size, 1 / 48000) < 1500.0)
    peak = np.argmax(np.fft.irfft(cross, 8 * size), axis=-1)
    return np.where(peak > 4 * size, peak - 8 * size, peak) / 8 / 48.0


class MeasuredHead(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.head = load_head(SHIPPED, 48000)

    def delay_ms(self, azimuth: float) -> float:
        """How much later the right ear hears than the left.

        From the broad-band cross-correlation.
        """
        left, right = self.head.responses(unit_vectors([azimuth], 0))[0].astype(float)
        cross = np.correlate(right, left, "full")
        return (np.argmax(cross) - (len(left) - 1)) / 48.0

    def test_interaural_time_grows_to_the_side(self) -> None:
        """Woodworth 1938, a = 8.75 cm: 0.656 ms at 90 degrees.

        The measured head lies near it (to 0.15 ms).
        """
        self.assertAlmostEqual(self.delay_ms(0), 0.0, delta=0.03)
        self.assertAlmostEqual(self.delay_ms(90), 0.656, delta=0.15)
        self.assertAlmostEqual(self.delay_ms(-90), -0.656, delta=0.15)
        self.assertLess(self.delay_ms(20), self.delay_ms(50))

    def test_level_difference_grows_with_frequency(self) -> None:
        """Gardner & Martin 1994 (KEMAR): the far ear is shadowed more at high frequencies."""
        left, right = np.abs(np.fft.rfft(self.head.responses(unit_vectors([90], 0))[0], 4096))
        frequency = np.fft.rfftfreq(4096, 1 / 48000)

        def difference(low: float, high: float) -> float:
            band = (frequency >= low) & (frequency < high)
            return float(10 * np.log10(np.mean(left[band] ** 2) / np.mean(right[band] ** 2)))

        self.assertGreater(difference(4000, 8000), difference(200, 500) + 6.0)

    def test_between_measured_directions_the_level_is_steady(self) -> None:
        azimuth = np.arange(0, 90, 1.0)
        energy = np.sum(self.head.responses(unit_vectors(azimuth, 3.0)) ** 2, axis=(1, 2))
        steps_db = np.abs(np.diff(10 * np.log10(energy)))
        self.assertLess(steps_db.max(), 0.5)

    def test_the_diffuse_field_has_no_colour(self) -> None:
        """Power over the sphere (area weights), in thirds of octaves: flat within 0.7 dB, each ear
        half of the energy of the source (Moller 1992; Larcher, Jot & Vandernoot 1998).
        """
        azimuth, elevation, weights = sphere_grid()
        responses = self.head.responses(unit_vectors(azimuth, elevation)).astype(float)
        power = np.einsum("d,def->ef", weights, np.abs(np.fft.rfft(responses, 8192)) ** 2)
        hertz = np.fft.rfftfreq(8192, 1 / 48000)
        for centre in 1000.0 * 2.0 ** (np.arange(-14, 13) / 3):
            third = (hertz > centre * 2 ** (-1 / 6)) & (hertz < centre * 2 ** (1 / 6))
            for ear in power:
                self.assertAlmostEqual(10 * np.log10(ear[third].mean()), -3.01, delta=0.7)

    def test_below_what_can_be_measured_no_head_is_in_the_way(self) -> None:
        sides = self.head.responses(unit_vectors([90.0, 0.0, 180.0], [0.0, 0.0, 0.0])).astype(float)
        level = 20 * np.log10(np.abs(np.fft.rfft(sides, 8192))[..., 5:15])  # 29 to 88 Hz
        np.testing.assert_allclose(level, -3.01, atol=0.5)

    def test_a_measured_direction_is_what_was_measured(self) -> None:
        """The file itself (MIT KEMAR, Gardner & Martin 1994), at its own rate: how the ears differ
        from 430 Hz to 16 kHz, and one direction from another, but for one curve for all.
        """
        head = load_head(SHIPPED, 44100)
        file = sofar.read_sofa(str(SHIPPED), verify=False, verbose=False)
        chosen = np.random.default_rng(4).choice(len(file.SourcePosition), 24, replace=False)
        azimuth, elevation = file.SourcePosition[chosen, :2].T
        size = 2048
        wanted = np.abs(np.fft.rfft(np.asarray(file.Data_IR)[chosen], size))[..., 20:740]
        found = np.abs(np.fft.rfft(head.responses(unit_vectors(azimuth, elevation)), size))[
            ..., 20:740
        ]
        off_db = 20 * np.log10(found / np.maximum(wanted, 1e-6))
        off_db -= np.median(off_db, axis=(0, 1))  # one curve for all directions and both ears
        self.assertLess(np.percentile(np.abs(off_db), 95), 0.7)  # it is cut to 10.7 ms

    def test_what_moves_has_the_same_responses_as_what_stands(self) -> None:
        """Two ways to one response.

        The quicker one keeps delays to a 32nd of a sample and is cut a little shorter.
        """
        dice = np.random.default_rng(5)
        vectors = dice.standard_normal((60, 3))
        vectors /= np.linalg.norm(vectors, axis=1, keepdims=True)
        still = self.head.responses(vectors)
        spectra, _ = self.head.spectra(vectors, np.ones(60), np.arange(1, 61), 1536)
        off = np.fft.irfft(spectra, 1536)[..., : still.shape[2]] - still
        self.assertLess(10 * np.log10(np.sum(off**2) / np.sum(still**2)), -30.0)

    def test_what_is_wide_has_the_covariance_of_all_its_directions(self) -> None:
        """Power at each ear and likeness between them in thirds of octaves, as sources unlike each
        other have from all of them at once (the definition of an incoherent extended source).
        """
        hertz = np.fft.rfftfreq(1536, 1 / 48000)
        for azimuth, extent in ((0.0, 60.0), (30.0, 60.0), (90.0, 120.0), (0.0, 360.0)):
            cells = around([azimuth], [0.0], [extent], [extent])[0]
            parts = np.full(len(cells), 1.0 / len(cells))
            itself, copy = self.head.spectra(cells, parts, np.array([len(cells)]), 1536)
            alone, none = self.head.spectra(cells, parts, np.arange(1, len(cells) + 1), 1536)
            self.assertIsNone(none)
            assert copy is not None
            for centre in 1000.0 * 2.0 ** (np.arange(-9, 13) / 3):
                third = (hertz > centre * 2 ** (-1 / 6) - 20) & (hertz < centre * 2 ** (1 / 6) + 20)
                real, made = (
                    np.einsum("nef,ngf->eg", part[..., third], part[..., third].conj())
                    for part in (alone / np.sqrt(len(cells)), np.stack([itself[0], copy[0]]))
                )
                off = 10 * np.log10(np.diag(made).real / np.diag(real).real)
                self.assertLess(np.abs(off).max(), 1.0)
                like = [abs(c[0, 1]) / np.sqrt(c[0, 0].real * c[1, 1].real) for c in (real, made)]
                self.assertAlmostEqual(*like, delta=0.1)

    def test_a_scene_on_headphones_has_the_colour_and_the_delay_of_an_object(self) -> None:
        """Plane waves from 60 directions by chance, thirds of octaves from 50 Hz to 8 kHz, both
        ears together, against the head itself; delay between the ears below 1.5 kHz.

        (Schoerkhuber, Zaunschirm & Hoeldrich 2018: what magnitude least squares is to reach.)
        """
        vectors = np.random.default_rng(6).standard_normal((60, 3))
        vectors /= np.linalg.norm(vectors, axis=1, keepdims=True)
        objects = self.head.responses(vectors).astype(float)
        for order, within_db, weighting in (
            (3, 2.0, "basic"),
            (5, 1.5, "basic"),
            (3, 2.6, "max_re"),
        ):
            heard = scene_responses(self.head, order, weighting).astype(float)
            waves = np.einsum("dk,ket->det", encode(*angles_of(vectors), order), heard)
            off = []
            hertz = np.fft.rfftfreq(4096, 1 / 48000)
            for centre in 1000.0 * 2.0 ** (np.arange(-13, 10) / 3):
                third = (hertz > centre * 2 ** (-1 / 6) - 6) & (hertz < centre * 2 ** (1 / 6) + 6)
                scene, real = (
                    np.sum(np.abs(np.fft.rfft(part, 4096))[..., third] ** 2, axis=(1, 2))
                    for part in (waves, objects)
                )
                off.append(10 * np.log10(scene / real))
            self.assertLess(np.percentile(np.abs(off), 95), within_db, f"order {order}")
            apart = np.abs(itd_ms(waves) - itd_ms(objects))
            self.assertLess(np.percentile(apart, 95), 0.1 if weighting == "basic" else 0.13)

    def test_a_scene_keeps_the_diffuse_field_of_the_head(self) -> None:
        """Level and likeness between the ears over the sphere (Zaunschirm et al. 2018)."""
        azimuth, elevation, weights = sphere_grid()
        for order in (1, 3):
            heard = scene_responses(self.head, order).astype(float)
            found = []
            for part in (
                np.einsum("dk,ket->det", encode(azimuth, elevation, order), heard),
                self.head.responses(unit_vectors(azimuth, elevation)).astype(float),
            ):
                spectra = np.fft.rfft(part, 2048)[..., 4:700]
                found.append(np.einsum("d,def,dgf->egf", weights, spectra, spectra.conj()))
            scene, real = found
            for ear in range(2):
                off = 10 * np.log10(scene[ear, ear].real / real[ear, ear].real)
                self.assertLess(np.percentile(np.abs(off), 98), 0.5)
            cross = np.abs(scene[0, 1] - real[0, 1]) / np.sqrt(real[0, 0].real * real[1, 1].real)
            self.assertLess(np.percentile(cross, 98), 0.15)

    def test_missing_and_unfit_files(self) -> None:
        with self.assertRaisesRegex(InputError, "libmysofa1"):
            load_head(SHIPPED.with_name("none.sofa"), 48000)


class RoomCube(unittest.TestCase):
    """ITU-R BS.2127-1, section 10.1."""

    def test_the_loudspeakers_stand_at_corners_and_edges(self) -> None:
        """Table of section 10.1.1 (from memory).

        0, 30 and 110 degrees, and the layer at 30 degrees of elevation.
        """
        cases = {
            (0, 0): (0, 1, 0),
            (30, 0): (-1, 1, 0),
            (-30, 0): (1, 1, 0),
            (110, 0): (-1, -1, 0),
            (-110, 0): (1, -1, 0),
            (0, 30): (0, 1, 1),
            (30, 30): (-1, 1, 1),
            (-110, 30): (1, -1, 1),
            (0, 90): (0, 0, 1),
            (0, -90): (0, 0, -1),
            (180, 0): (0, -1, 0),
            (-110, -30): (1, -1, -1),
        }
        for angles, place in cases.items():
            np.testing.assert_allclose(to_cube(*angles), place, atol=1e-9, err_msg=str(angles))
            azimuth, elevation, distance = to_sphere(*map(float, place))
            apart = unit_vectors(azimuth, elevation) @ unit_vectors(*angles)
            self.assertAlmostEqual(float(apart), 1.0, places=9)
            self.assertAlmostEqual(distance, 1.0, places=9)

    def test_there_and_back_within_a_tenth_of_a_degree(self) -> None:
        random = np.random.default_rng(7)
        for azimuth, elevation, distance in zip(
            random.uniform(-180, 180, 400),
            random.uniform(-89.9, 89.9, 400),
            random.uniform(0.05, 1.0, 400),
            strict=True,
        ):
            a, e, d = to_sphere(*to_cube(azimuth, elevation, distance))
            apart = np.degrees(
                np.arccos(np.clip(unit_vectors(a, e) @ unit_vectors(azimuth, elevation), -1, 1))
            )
            self.assertLess(float(apart), 0.1)
            self.assertAlmostEqual(d, distance, places=6)
        self.assertEqual(to_sphere(0.0, 0.0, 0.0), (0.0, 0.0, 0.0))

    def test_inside_the_room_everything_has_its_place(self) -> None:
        for place in np.random.default_rng(8).uniform(-1, 1, (300, 3)):
            np.testing.assert_allclose(to_cube(*to_sphere(*map(float, place))), place, atol=1e-6)
