"""Simulated spaces: decay by formula, directions of microphones, what ships, and files of them."""

import math
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
import sofar
import soundfile
from pydantic import ValidationError

from metaphon.core.measure.room_response import OCTAVES_HZ, room_response
from metaphon.core.measure.tail_picture import alikeness, spectrogram_db
from metaphon.core.spaces.materials import (
    ABSORPTION,
    BANDS_HZ,
    absorption_m2,
    decay_by_eyring_s,
    decay_by_sabine_s,
)
from metaphon.core.spaces.response_files import write_flac, write_sofa, write_wav
from metaphon.core.spaces.shipped import DISTANCES, MICROPHONES, SPACES
from metaphon.core.spaces.simulation import simulated
from metaphon.core.spaces.space import Microphone, Room, Source, Space
from tests.sounds import RATE_HZ, FolderTest, noise


class Formulas(unittest.TestCase):
    def test_sabine_of_a_worked_example(self) -> None:
        """200 m3 with 32 m2 of absorption: 1.006 s (0.161 V / A)."""
        room = Room(width_m=8.0, depth_m=10.0, height_m=2.5, air=False)
        self.assertAlmostEqual(room.volume_m3, 200.0)
        area = sum(room.surfaces_m2.values())
        self.assertAlmostEqual(area, 250.0)
        decay = decay_by_sabine_s(room) * absorption_m2(room) / 32.0
        np.testing.assert_allclose(decay, 1.006, atol=0.001)

    def test_eyring_is_sabine_for_hard_rooms_and_nothing_where_all_is_taken(self) -> None:
        """-ln(1 - a) is a for small a (C. F. Eyring 1930)."""
        hard = Room(floor="tiles", walls="tiles", ceiling="tiles", air=False)
        np.testing.assert_allclose(decay_by_eyring_s(hard), decay_by_sabine_s(hard), rtol=0.012)
        mean = 0.7
        ratio = mean / -math.log(1.0 - mean)
        soft = Room(floor="people", walls="people", ceiling="people")
        taken = absorption_m2(soft) / sum(soft.surfaces_m2.values())
        found = decay_by_eyring_s(soft) / decay_by_sabine_s(soft)
        np.testing.assert_allclose(np.interp(mean, taken[:5], found[:5]), ratio, rtol=0.02)

    def test_areas_of_every_shape(self) -> None:
        for shape, area, tolerance in (
            ("box", 96.0, 1e-9),
            ("l_shape", 96.0 - 0.4 * 8.0 * 0.45 * 12.0, 1e-9),
            ("wedge", 12.0 * (8.0 + 0.4 * 8.0) / 2.0, 1e-9),
            ("round", math.pi * 24.0, 2.0),
        ):
            room = Room(shape=shape, width_m=8.0, depth_m=12.0, height_m=3.0)
            self.assertAlmostEqual(room.surfaces_m2["floor"], area, delta=tolerance, msg=shape)
            self.assertTrue(room.holds(np.array([[4.1, 2.0, 1.5]]))[0] or shape == "l_shape")
            self.assertFalse(room.holds(np.array([[-1.0, 2.0, 1.5], [4.0, 4.0, 2.9]])).any())

    def test_what_stands_outside_is_refused(self) -> None:
        for space in (
            {"source": Source(from_front_m=20.0)},
            {"microphones": (Microphone(distance_m=11.0),)},
            {"microphones": (Microphone(spacing_m=9.0),)},
        ):
            with self.assertRaisesRegex(ValidationError, "outside the room"):
                Space(**space)  # type: ignore[arg-type]
        self.assertEqual(len(next(iter(ABSORPTION.values()))), len(BANDS_HZ))


class Simulated(unittest.TestCase):
    def test_a_box_decays_as_sabine_and_eyring_say(self) -> None:
        """Within 15 % in every octave: alike on all walls and at all frequencies, which scatter.

        Octaves of the package overlap, so what differs from one to the next blurs.
        """
        room = Room(width_m=6.0, depth_m=8.0, height_m=4.5, scattering=0.7, air=False)
        even = dict.fromkeys(("floor", "walls", "ceiling"), "wood")
        room = room.model_copy(update=even)
        taken = mock.patch.dict(ABSORPTION, {"wood": (0.12,) * 6})
        taken.start()
        self.addCleanup(taken.stop)
        told: list[float] = []
        # each place scatters by itself: twelve of them
        pairs = (Microphone(spacing_m=w, distance_m=d) for w in (0.8, 2.4) for d in (2.0, 3.2, 4.6))
        space = Space(room=room, microphones=tuple(pairs))
        sound = [one for pair in simulated(space, RATE_HZ, told.append) for one in pair]
        self.assertEqual(told[-1], 1.0)
        self.assertEqual(sorted(told), told)
        found = np.mean(
            [[o.t30_s for o in room_response(one, RATE_HZ).octaves[:6]] for one in sound], axis=0
        )
        for formula in (decay_by_sabine_s(room), decay_by_eyring_s(room)):
            np.testing.assert_allclose(found / formula, 1.0, atol=0.15)

    def test_the_first_sound_has_its_time_its_level_and_its_side(self) -> None:
        """Distance over 343 m/s; a figure of eight hears by the cosine, left of it positive.

        W, Y, Z and X of a source in front at the microphone's height are 1, 0, 0 and 1.
        """
        room = Room(width_m=10.0, depth_m=14.0, height_m=5.0, walls="absorber", floor="absorber")
        microphones = (
            Microphone(pattern="ambisonic", distance_m=5.0, height_m=1.5),
            Microphone(pattern="cardioid", spacing_m=0.0, angle_deg=120.0, distance_m=5.0),
            Microphone(count="five", pattern="cardioid", spacing_m=0.4, distance_m=5.0),
        )
        one = Space(room=room, source=Source(height_m=1.5), microphones=microphones)
        scene, pair, five = simulated(one, RATE_HZ, lambda done: None)
        at = int(np.argmax(np.abs(scene[0])))
        self.assertAlmostEqual(at / RATE_HZ, 5.0 / 343.0, delta=2.0 / RATE_HZ)
        np.testing.assert_allclose(scene[:, at] / scene[0, at], [1.0, 0.0, 0.0, 1.0], atol=0.03)
        np.testing.assert_allclose(pair[0, at - 2 : at + 3], pair[1, at - 2 : at + 3], atol=5e-3)
        self.assertEqual(five.shape[0], 6)
        self.assertEqual(np.abs(five[3]).max(), 0.0)
        first = np.abs(five[:, : at + 40]).max(axis=1)
        self.assertGreater(first[2], 2.0 * first[4])  # the centre looks to the source
        two = Space(
            room=room,
            source=Source(count="pair", spacing_m=4.0, height_m=1.7),
            microphones=(Microphone(pattern="cardioid", spacing_m=0.0, distance_m=5.0),),
        )
        (ways,) = simulated(two, RATE_HZ, lambda done: None)
        self.assertEqual(len(ways), 4)  # left to left, left to right, and of the right
        early = np.sum(ways[:, : at + 200] ** 2, axis=1)
        self.assertGreater(early[0], 1.3 * early[1])
        self.assertGreater(early[3], 1.3 * early[2])


class Shipped(unittest.TestCase):
    def test_six_spaces_with_three_microphones_at_three_distances(self) -> None:
        """All there; further is less clear, and what is heard decays as the room is built."""
        self.assertEqual(len(SPACES), 6)
        for one in SPACES:
            rough = float(np.median(decay_by_eyring_s(one.room)))
            clearer = []
            for microphone in MICROPHONES:
                clear = []
                for distance in DISTANCES:
                    sound, rate = soundfile.read(one.file(microphone, distance), always_2d=True)
                    self.assertEqual(sound.shape[1], 4 if microphone == "ambisonic" else 2)
                    told = room_response(sound[:, 0], rate)
                    clear.append(told.whole.c80_db)
                    middle = told.octaves[OCTAVES_HZ.index(1000.0)].t30_s
                    assert middle
                    self.assertLess(abs(math.log2(middle / rough)), 1.0, one.key)
                clearer.append(clear[0] - clear[2])  # type: ignore[operator]
            self.assertGreater(np.mean(clearer), 0.2, one.key)


class Files(FolderTest):
    def test_wav_flac_and_sofa_hold_what_was_written(self) -> None:
        response = (noise(2, 0.2) * 0.5).astype(np.float32)
        write_wav(self.folder / "a.wav", response, RATE_HZ)
        sound, _ = soundfile.read(self.folder / "a.wav", dtype="float32")
        np.testing.assert_array_equal(sound.T, response)
        write_flac(self.folder / "a.flac", response, RATE_HZ)
        sound, _ = soundfile.read(self.folder / "a.flac")
        ratio = sound.T.max() / response.max()
        np.testing.assert_allclose(sound.T / ratio, response, atol=4e-6 / ratio)
        path: Path = self.folder / "a.sofa"
        write_sofa(path, response, RATE_HZ, Space())
        held = sofar.read_sofa(str(path), verify=True, verbose=False)
        self.assertEqual(held.GLOBAL_SOFAConventions, "SingleRoomSRIR")
        np.testing.assert_allclose(held.Data_IR[0], response, atol=1e-7)
        away = np.linalg.norm(held.SourcePosition - held.ListenerPosition)
        self.assertAlmostEqual(float(away), math.hypot(4.0, 0.2), places=6)


class Pictures(unittest.TestCase):
    def test_ears_that_hear_one_sound_are_alike_and_those_that_do_not_are_not(self) -> None:
        """1 for a copy up to 1 ms later, about 0 for two noises (ISO 3382-1, annex B)."""
        sound = noise(2, 1.2, 5)
        late = np.roll(sound[0], 30)
        for ears, low, high in (
            (np.stack([sound[0], late]), 0.97, 1.001),
            (np.stack([sound[0], -sound[0]]), 0.97, 1.001),
            (sound, 0.0, 0.25),
        ):
            told = alikeness(ears, RATE_HZ)
            for value in told.late:
                assert value is not None
                self.assertTrue(low <= value <= high, told)
        self.assertEqual(alikeness(np.zeros((2, 4800)), RATE_HZ).early, (None,) * 7)

    def test_a_tone_is_a_line_where_it_sounds(self) -> None:
        bands = np.geomspace(50.0, 16000.0, 56)
        sound = np.zeros((1, RATE_HZ))
        at = np.arange(RATE_HZ // 2)
        sound[0, : len(at)] = np.sin(2.0 * np.pi * 1000.0 * at / RATE_HZ)
        picture = spectrogram_db(sound, RATE_HZ, bands, 100)
        strongest = int(np.argmax(picture[:, 20]))
        self.assertAlmostEqual(math.log2(bands[strongest] / 1000.0), 0.0, delta=0.1)
        self.assertEqual(float(picture.max()), 0.0)
        self.assertLess(float(picture[:, 60:].max()), -60.0)
