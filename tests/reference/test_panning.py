"""Panners, decoders, sizes and layouts against their sources and general-purpose references."""

import unittest
from unittest.mock import patch

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import special
from scipy.special import sph_harm_y
from spaudiopy import decoder, sph
from spaudiopy.grids import load_t_design

from metaphon.core.document.mix import Placement
from metaphon.core.document.positions import FORMS
from metaphon.core.engine.automation import Curve
from metaphon.core.engine.object_panning import ObjectPosition, layout_gains, scene_gains
from metaphon.core.errors import InputError
from metaphon.core.spatial.air import air_absorption_db_per_m, level_at
from metaphon.core.spatial.ambisonics import encode, sphere_grid
from metaphon.core.spatial.cube_panning import cube_pan, cube_positions
from metaphon.core.spatial.decoding import decode_matrix, max_re_weights
from metaphon.core.spatial.decorrelation import decorrelators
from metaphon.core.spatial.directions import unit_vectors
from metaphon.core.spatial.extent import seen_from_within
from metaphon.core.spatial.layouts import LAYOUTS, OWN, layout_named, own_layout
from metaphon.core.spatial.localisation import localised
from metaphon.core.spatial.panning import pan_vectors, vector_pan
from metaphon.core.spatial.room_cube import (
    REFERENCES,
    sizes_to_cube,
    sizes_to_sphere,
    to_cube,
    to_sphere,
)
from metaphon.core.spatial.rotation import scene_rotation, turn

SURROUND = [name for name, layout in LAYOUTS.items() if layout.channels > 3]
MANY = np.random.default_rng(11)


def directions(count: int) -> tuple[np.ndarray, np.ndarray]:
    return MANY.uniform(-180, 180, count), np.degrees(np.arcsin(MANY.uniform(-1, 1, count)))


def where(**said: object) -> ObjectPosition:
    """An object that stands still."""
    place = Placement.model_validate({"mode": "object", **said})

    def curve(name: str) -> Curve:
        value = getattr(place, name)
        return Curve.of(place.extent_deg if value is None else value)

    others = [curve(name) for name in ("pair_deg", "divergence", "diffuseness")]
    return ObjectPosition(
        place, tuple(map(curve, FORMS[place.coordinates])), *others, ((0.0, 0.0),)
    )  # type: ignore[arg-type]


def gains(layout: str = "4+7+0", **said: object) -> np.ndarray:
    return layout_gains(where(**said), LAYOUTS[layout], np.zeros(1))[0, :, 0]


class Continuity(unittest.TestCase):
    def test_nothing_jumps_over_the_sphere(self) -> None:
        """The level of what changes in a tenth of a degree, as 1 dB a degree.

        A gain vector of length 0.122.

        Between loudspeakers 15 degrees apart (4+9+0) a constant-power pair alone takes more; 0.25
        is held there.
        """
        azimuth, elevation = directions(20000)
        here = unit_vectors(azimuth, elevation)
        near = here + np.radians(0.1) * MANY.standard_normal(here.shape)
        near /= np.linalg.norm(near, axis=1, keepdims=True)
        apart = np.degrees(np.arccos(np.clip(np.sum(here * near, axis=1), -1, 1)))
        for name in ("0+2+0", *SURROUND):
            change = np.linalg.norm(
                pan_vectors(here, LAYOUTS[name]) - pan_vectors(near, LAYOUTS[name]), axis=1
            )
            steepest = np.max(change / np.maximum(apart, 0.02))
            self.assertLess(steepest, 0.25 if name == "4+9+0" else 0.122, name)

    def test_energy_is_one_everywhere(self) -> None:
        """Within 0.01 dB, on every layout, by both panners, with size, divergence and zones."""
        azimuth, elevation = directions(2000)
        for name, layout in LAYOUTS.items():
            power = np.sum(vector_pan(azimuth, elevation, layout) ** 2, axis=1)
            self.assertLess(np.abs(10 * np.log10(power)).max(), 0.01, name)
            power = np.sum(cube_pan(MANY.uniform(-1, 1, (2000, 3)), layout) ** 2, axis=1)
            self.assertLess(np.abs(10 * np.log10(power)).max(), 0.01, name)
        for said in (
            {"extent_deg": 70.0, "azimuth_deg": 40.0},
            {"divergence": 0.6},
            {"excluded": ("rear", "above")},
            {"distance": 0.2},
            {"coordinates": "cube", "x": 0.2, "extent_x": 0.5, "divergence": 0.3},
            {"extent_depth": 0.5, "distance": 0.7},
        ):
            self.assertAlmostEqual(
                float(np.sum(gains(**said) ** 2)), 1.0, delta=0.0023, msg=str(said)
            )


class Room(unittest.TestCase):
    """Panning in a room.

    ITU-R BS.2127-1, section 7.3.10 (positions of loudspeakers from memory).
    """

    def test_a_place_of_a_loudspeaker_is_that_loudspeaker_alone(self) -> None:
        for name, layout in LAYOUTS.items():
            places = cube_positions(layout)
            for i in layout.main:
                self.assertAlmostEqual(cube_pan(places[i], layout)[i], 1.0, places=9, msg=name)

    def test_positions_of_the_common_layouts(self) -> None:
        seven = dict(
            zip(LAYOUTS["4+7+0"].labels, cube_positions(LAYOUTS["4+7+0"]).tolist(), strict=True)
        )
        self.assertEqual(seven["M+030"], [-1.0, 1.0, 0.0])
        self.assertEqual(seven["M-090"], [1.0, 0.0, 0.0])
        self.assertEqual(seven["U+135"], [-1.0, -1.0, 1.0])
        wide = dict(
            zip(LAYOUTS["9+10+3"].labels, cube_positions(LAYOUTS["9+10+3"]).tolist(), strict=True)
        )
        self.assertEqual(wide["M-060"], [1.0, 1.0, 0.0])
        self.assertAlmostEqual(wide["M+030"][0], 1 - np.sqrt(2))
        self.assertEqual(wide["T+000"], [0.0, 0.0, 1.0])

    def test_half_way_is_minus_3_db_on_either_side(self) -> None:
        pair = cube_pan([0.0, -1.0, 0.0], LAYOUTS["0+5+0"])
        np.testing.assert_allclose(pair[[4, 5]], np.sqrt(0.5), atol=1e-12)
        centre = cube_pan([0.0, 0.0, 0.0], LAYOUTS["4+7+0"])
        np.testing.assert_allclose(centre[[4, 5]], np.sqrt(0.5), atol=1e-12)

    def test_conversion_by_every_reference_goes_back(self) -> None:
        azimuth, elevation = directions(500)
        for reference in REFERENCES.values():
            back = to_sphere(*to_cube(azimuth, elevation, 0.8, reference), reference)
            cosine = np.sum(unit_vectors(*back[:2]) * unit_vectors(azimuth, elevation), axis=1)
            self.assertLess(np.degrees(np.arccos(np.clip(cosine, -1, 1))).max(), 0.1)
            corner = to_cube(reference.rear_deg, 0.0, 1.0, reference)
            np.testing.assert_allclose(corner, (-1.0, -1.0, 0.0), atol=1e-9)

    def test_sizes(self) -> None:
        """Section 10.1.3 (from memory): ahead, 180 degrees wide is the whole room wide.

        A width goes there and back.
        """
        np.testing.assert_allclose(
            sizes_to_cube(0.0, 0.0, 180.0, 0.0, 0.0), (1.0, 0.5, 0.0), atol=1e-9
        )
        side = sizes_to_cube(90.0, 0.0, 60.0, 20.0, 0.0)
        self.assertAlmostEqual(
            float(side[1]), 0.5, places=9
        )  # from the side a width lies along the room
        for azimuth in (
            0.0,
            90.0,
            180.0,
            -90.0,
        ):  # elsewhere a box along the walls cannot say a width exactly
            there = sizes_to_cube(azimuth, 0.0, 60.0, 60.0, 0.0)
            np.testing.assert_allclose(
                sizes_to_sphere(azimuth, 0.0, *there)[:2], (60.0, 60.0), atol=1e-6
            )


class Sizes(unittest.TestCase):
    def test_a_source_in_the_head_comes_from_all_round(self) -> None:
        """ITU-R BS.2127-1, section 7.3.8.2 (from memory).

        As it is at 1, 360 degrees at 0, growing in between.
        """
        np.testing.assert_allclose(
            seen_from_within([0.0, 50.0, 360.0], 1.0), [0.0, 50.0, 360.0], atol=1e-9
        )
        np.testing.assert_allclose(seen_from_within([0.0, 90.0], 0.0), 360.0)
        grown = seen_from_within(20.0, np.linspace(1.0, 0.0, 20))
        self.assertTrue(np.all(np.diff(grown) > 0))

    def test_inside_the_sphere_the_image_is_wider_unless_it_stays_on_it(self) -> None:
        def length(**said: object) -> float:
            return float(
                np.linalg.norm(gains(azimuth_deg=20.0, **said) ** 2 @ LAYOUTS["4+7+0"].vectors)
            )

        self.assertGreater(length(), length(distance=0.5))
        self.assertGreater(length(distance=0.5), length(distance=0.1))
        self.assertAlmostEqual(length(distance=0.1, on_sphere=True), length(), places=9)

    def test_width_and_height_apart(self) -> None:
        """A flat source ahead stays out of the upper layer, a tall one does not."""
        upper = [i for i, (_, elevation) in enumerate(LAYOUTS["4+7+0"].angles_deg) if elevation > 0]
        flat = gains(extent_deg=120.0, extent_height_deg=0.0)
        tall = gains(extent_deg=0.0, extent_height_deg=120.0)
        self.assertLess(np.sum(flat[upper] ** 2), 1e-9)
        self.assertGreater(np.sum(tall[upper] ** 2), 0.1)

    def test_divergence(self) -> None:
        """ITU-R BS.2127-1, section 7.3.7 (from memory).

        At 1 half the power from either side, at 0.5 a third each.
        """
        full = gains(layout="0+4+0", divergence=1.0, divergence_range_deg=45.0)
        np.testing.assert_allclose(full[:2] ** 2, 0.5, atol=1e-9)
        third = gains(layout="0+3+0", divergence=0.5, divergence_range_deg=30.0)
        np.testing.assert_allclose(third**2, 1 / 3, atol=1e-9)

    def test_an_excluded_zone_leaves_the_whole_energy_to_the_nearest_open_ones(self) -> None:
        """As they were found silent: 7.1.4 at 135 degrees without the left, 5.1 at 0 without the
        front; and on the way round without a dropout.
        """
        for name, zone, azimuth, heard in (
            ("4+7+0", "left", 135.0, "M-135"),
            ("0+5+0", "front", 0.0, "M+110"),
            ("0+5+0", "rear", 180.0, "M+030"),
        ):
            for coordinates in ("sphere", "cube"):
                x, y = -np.sin(np.radians(azimuth)), np.cos(np.radians(azimuth))
                there = {"azimuth_deg": azimuth, "x": x, "y": y, "coordinates": coordinates}
                power = gains(name, excluded=(zone,), **there) ** 2
                self.assertAlmostEqual(power.sum(), 1.0)
                self.assertGreater(power[LAYOUTS[name].labels.index(heard)], 0.3)
            for turned in range(-180, 181, 5):
                power = gains(name, excluded=(zone,), azimuth_deg=float(turned)) ** 2
                self.assertAlmostEqual(power.sum(), 1.0)

    def test_snap_and_zones(self) -> None:
        snapped = gains(azimuth_deg=40.0, elevation_deg=5.0, snap=True)
        self.assertEqual(np.count_nonzero(snapped), 1)
        self.assertEqual(LAYOUTS["4+7+0"].labels[int(np.argmax(snapped))], "M+030")
        labels = LAYOUTS["4+7+0"].labels
        rear = gains(azimuth_deg=150.0, excluded=("rear",))
        self.assertEqual([labels[i] for i in np.nonzero(rear > 1e-9)[0] if "135" in labels[i]], [])
        self.assertAlmostEqual(float(np.sum(rear**2)), 1.0, places=9)
        all_out = gains(azimuth_deg=150.0, excluded=("above", "below", "level"))
        self.assertAlmostEqual(float(np.sum(all_out**2)), 1.0, places=9)  # none left: all stay open


class Scenes(unittest.TestCase):
    def test_harmonics_to_order_seven_against_scipy(self) -> None:
        """scipy's complex harmonics, made real and SN3D (Nachbar et al. 2011, equations 2 to 4)."""
        azimuth, elevation = directions(40)
        ours = encode(azimuth, elevation, 7)
        for n in range(8):
            for m in range(-n, n + 1):
                held = sph_harm_y(n, abs(m), np.radians(90.0 - elevation), np.radians(azimuth))
                real = held.real if m >= 0 else held.imag
                scale = np.sqrt(4 * np.pi / (2 * n + 1)) * (-1) ** m * (np.sqrt(2) if m else 1.0)
                np.testing.assert_allclose(ours[:, n * n + n + m], scale * real, atol=1e-10)

    @given(st.floats(-180, 180), st.floats(-90, 90), st.floats(-180, 180))
    @settings(max_examples=12, deadline=None)
    def test_a_rotated_scene_is_a_scene_of_rotated_sources(
        self, yaw: float, pitch: float, roll: float
    ) -> None:
        azimuth, elevation = directions(20)
        vectors = unit_vectors(azimuth, elevation) @ turn(yaw, pitch, roll).T
        moved = encode(
            np.degrees(np.arctan2(-vectors[:, 0], vectors[:, 1])),
            np.degrees(np.arcsin(np.clip(vectors[:, 2], -1, 1))),
            4,
        )
        rotated = encode(azimuth, elevation, 4) @ scene_rotation(4, yaw, pitch, roll).T
        np.testing.assert_allclose(rotated, moved, atol=1e-9)

    def test_turns_as_they_are_named(self) -> None:
        np.testing.assert_allclose(
            turn(90.0, 0.0, 0.0) @ [0.0, 1.0, 0.0], [-1.0, 0.0, 0.0], atol=1e-12
        )
        np.testing.assert_allclose(
            turn(0.0, 90.0, 0.0) @ [0.0, 1.0, 0.0], [0.0, 0.0, 1.0], atol=1e-12
        )
        np.testing.assert_allclose(
            turn(0.0, 0.0, 90.0) @ [-1.0, 0.0, 0.0], [0.0, 0.0, 1.0], atol=1e-12
        )

    def test_length_of_the_energy_vector_on_an_even_layout(self) -> None:
        """Zotter & Frank 2019, table 4.1 and equation 4.35.

        |rE| of max-rE weights, the largest root of P_(N+1).

        0.577 at order 1, 0.775 at 2, 0.861 at 3 (largest roots of the Legendre polynomials of
        degree 2, 3, 4).
        """
        for order, wanted in ((1, 0.577), (2, 0.775), (3, 0.861)):
            azimuth, elevation, weights = sphere_grid()
            scale = np.repeat(
                max_re_weights(order) * (2 * np.arange(order + 1) + 1), 2 * np.arange(order + 1) + 1
            )
            played = encode(azimuth, elevation, order) @ (encode(30.0, 20.0, order) * scale)
            power = weights * played**2
            length = np.linalg.norm(power @ unit_vectors(azimuth, elevation)) / power.sum()
            self.assertAlmostEqual(length, wanted, delta=0.004)

    def test_decoders_and_panning_against_a_general_purpose_spatial_package(self) -> None:
        """spaudiopy 0.2.

        Its projection and mode matching up to one factor, its max-rE weights, its vector panning.
        """
        # scipy has renamed the function that the package asks for
        renamed = patch.object(
            special, "sph_harm", lambda m, n, turn, fall: sph_harm_y(n, m, fall, turn), create=True
        )
        self.enterContext(renamed)
        places = load_t_design(10)
        hull = decoder.LoudspeakerSetup(*places.T)
        hull.pop_triangles()
        azimuth, elevation = (
            np.degrees(np.arctan2(places[:, 1], places[:, 0])),
            np.degrees(np.arcsin(places[:, 2])),
        )
        layout = own_layout(
            "Even",
            "\n".join(
                f"L{i} {a:.9f} {e:.9f}"
                for i, (a, e) in enumerate(zip(azimuth, elevation, strict=True))
            ),
        )
        n3d = np.repeat(np.sqrt(2 * np.arange(4) + 1), 2 * np.arange(4) + 1)
        np.testing.assert_allclose(sph.max_rE_weights(3), max_re_weights(3), atol=1e-12)
        for kind, other in (("projection", decoder.sad), ("mode_matching", decoder.mad)):
            ours = decode_matrix(3, layout, kind, "basic")  # type: ignore[arg-type]
            theirs = other(np.diag(n3d), hull, 3)
            np.testing.assert_allclose(
                ours / np.linalg.norm(ours), theirs / np.linalg.norm(theirs), atol=1e-6
            )
        wanted = unit_vectors(*directions(200))
        # theirs has x to the front and y to the left
        gains = decoder.vbap(np.stack([wanted[:, 1], -wanted[:, 0], wanted[:, 2]], axis=1), hull)
        alike = np.abs(pan_vectors(wanted, layout) - gains).max(axis=1) < 1e-6
        self.assertGreater(
            np.mean(alike), 0.9
        )  # four that lie in one plane may be cut into triangles in two ways

    def test_every_decoder_keeps_its_energy_and_aims_right(self) -> None:
        for kind in ("allrad", "projection", "mode_matching"):
            for weighting in ("basic", "max_re"):
                matrix = decode_matrix(2, LAYOUTS["4+7+0"], kind, weighting)  # type: ignore[arg-type]
                azimuth, elevation, weights = sphere_grid()
                energy = np.sum((matrix @ encode(azimuth, elevation, 2).T) ** 2, axis=0)
                self.assertAlmostEqual(float(weights @ energy), 1.0, places=6)
                self.assertEqual(np.abs(matrix[3]).max(), 0.0)  # nothing in the LFE
                loud = matrix @ encode(90.0, 0.0, 2)
                self.assertEqual(
                    LAYOUTS["4+7+0"].labels[int(np.argmax(loud**2))], "M+090", f"{kind} {weighting}"
                )

    def test_basic_weights_keep_the_velocity_vector(self) -> None:
        """Gerzon 1992: a basic decoder of an even ring has rV of length 1 in the aimed direction.

        Max-rE a longer rE.
        """
        ring = own_layout("Ring", "\n".join(f"L{i} {i * 45 - 180} 0" for i in range(8)))
        vectors = ring.vectors
        aimed = encode(22.5, 0.0, 1)

        def vector_of(weighting: str, power: int) -> np.ndarray:
            played = decode_matrix(1, ring, "mode_matching", weighting) @ aimed  # type: ignore[arg-type]
            return played**power @ vectors / np.sum(played**power)

        np.testing.assert_allclose(vector_of("basic", 1), unit_vectors(22.5, 0.0), atol=1e-6)
        self.assertGreater(
            np.linalg.norm(vector_of("max_re", 2)), np.linalg.norm(vector_of("basic", 2))
        )

    def test_an_object_in_a_scene_turns_into_its_harmonics(self) -> None:
        found = scene_gains(where(azimuth_deg=40.0, elevation_deg=-20.0), 5, np.zeros(1))[0, :, 0]
        np.testing.assert_allclose(found, encode(40.0, -20.0, 5), atol=1e-12)
        room = scene_gains(where(coordinates="cube", x=-1.0, y=1.0), 1, np.zeros(1))[0, :, 0]
        np.testing.assert_allclose(room, encode(30.0, 0.0, 1), atol=1e-9)


class Localisation(unittest.TestCase):
    def test_more_orders_are_sharper(self) -> None:
        azimuth, elevation = directions(300)
        layout = LAYOUTS["9+10+3"]
        spreads = [
            localised(
                azimuth,
                elevation,
                layout,
                lambda a, e, used, n=n: encode(a, e, n) @ decode_matrix(n, used).T,
            ).spread_deg.mean()
            for n in (1, 3, 7)
        ]
        self.assertEqual(spreads, sorted(spreads, reverse=True))


class Air(unittest.TestCase):
    def test_absorption(self) -> None:
        """ISO 9613-1:1993, table 1, 20 degrees Celsius and 50 % (from memory).

        DB per kilometre at octave bands.
        """
        table = {125: 0.445, 1000: 4.66, 4000: 29.8, 8000: 105.0}
        for frequency, wanted in table.items():
            found = float(air_absorption_db_per_m(frequency)) * 1000
            self.assertAlmostEqual(found / wanted, 1.0, delta=0.06, msg=str(frequency))

    def test_level(self) -> None:
        np.testing.assert_allclose(
            20 * np.log10(level_at([1.0, 2.0, 0.5, 4.0], 6.0)), [0.0, -6.0, 6.0, -12.0], atol=1e-9
        )


class Decorrelator(unittest.TestCase):
    def test_decorrelators_are_unlike_and_flat_in_energy(self) -> None:
        """Alary, Politis & Valimaki 2017: low correlation between filters, unit energy each."""
        filters = decorrelators(12, 48000)
        products = filters @ filters.T
        np.testing.assert_allclose(np.diag(products), 1.0, atol=1e-5)
        self.assertLess(np.abs(products - np.eye(12)).max(), 0.35)
        np.testing.assert_array_equal(decorrelators(2, 48000), filters[:2])


class OwnLayouts(unittest.TestCase):
    def test_a_table_becomes_a_layout_and_its_name_says_all_of_it(self) -> None:
        layout = own_layout("Small hall", "# front\nL 30 0\nR, -30, 0\nTop 0 90\nLFE\nS 180 -10\n")
        self.assertTrue(layout.name.startswith(OWN))
        again = layout_named(layout.name)
        self.assertEqual(
            (again.labels, again.places, again.title), (layout.labels, layout.places, "Small hall")
        )
        self.assertEqual(layout.is_lfe, (False, False, False, True, False))
        for index in layout.main:
            self.assertAlmostEqual(
                vector_pan(*layout.angles_deg[index], layout)[index], 1.0, places=6
            )

    def test_an_uneven_layout_is_not_evened_out(self) -> None:
        layout = own_layout("Uneven", "A 50 0\nB -20 0\nC 170 0\nD -100 0\nE 10 60")
        self.assertIsNone(layout.mirror)
        azimuth, elevation = directions(500)
        np.testing.assert_allclose(
            np.sum(vector_pan(azimuth, elevation, layout) ** 2, axis=1), 1.0, atol=1e-9
        )

    def test_mistakes_are_told_with_their_line(self) -> None:
        for table, words in (
            ("L 30", None),
            ("L thirty 0", "Line 1"),
            ("L 30 0\nL -30 0", "Line 2.*twice"),
            ("L 300 0", "Line 1: azimuth"),
            ("", "has 1 to 64"),
            ("L 30 0\nR 29 0", "at one place"),
        ):
            if words is None:
                self.assertEqual(own_layout("x", table).angles_deg, ((30.0, 0.0),))
                continue
            with self.assertRaisesRegex(InputError, words):
                own_layout("x", table)
        with self.assertRaisesRegex(InputError, "needs a name"):
            own_layout("", "L 30 0")
