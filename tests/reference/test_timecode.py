"""Linear timecode against SMPTE ST 12-1: bit by bit, drop frames, and read back from sound."""

import ctypes
import unittest

import numpy as np

from metaphon.core.errors import InputError
from metaphon.core.measure.timecode import (
    RATES,
    Timecode,
    as_sound,
    find,
    number_of,
    read_timecode,
    seconds_of,
    timecode_of,
    word,
)
from tests.sounds import RATE_HZ, noise


class Words(unittest.TestCase):
    def test_bit_by_bit(self) -> None:
        """ST 12-1 (from memory): units and tens in BCD, least bit first, the sync word last."""
        bits = word(Timecode(12, 34, 56, 18), RATES["30"])
        self.assertEqual(bits[0:4], [0, 0, 0, 1])  # 8 frames
        self.assertEqual(bits[8:10], [1, 0])  # 1 ten of them
        self.assertEqual(bits[16:20], [0, 1, 1, 0])  # 6 seconds
        self.assertEqual(bits[24:27], [1, 0, 1])  # 5 tens
        self.assertEqual(bits[32:36], [0, 0, 1, 0])  # 4 minutes
        self.assertEqual(bits[40:43], [1, 1, 0])  # 3 tens
        self.assertEqual(bits[48:52], [0, 1, 0, 0])  # 2 hours
        self.assertEqual(bits[56:58], [1, 0])  # 1 ten
        self.assertEqual("".join(map(str, bits[64:])), "0011111111111101")
        for name, rate in RATES.items():
            for n in range(0, 3000, 7):
                bits = word(timecode_of(n, rate), rate)
                self.assertEqual(bits.count(0) % 2, 0, "every frame begins with the same edge")
                self.assertEqual(bits[10], int(name.endswith("drop")))

    def test_numbers_drop_twice_a_minute_but_every_tenth(self) -> None:
        """ST 12-1: 00:00:59;29 is followed by 00:01:00;02, 00:09:59;29 by 00:10:00;00."""
        drop = RATES["29.97drop"]
        for before, after in (
            ((0, 0, 59, 29), (0, 1, 0, 2)),
            ((0, 9, 59, 29), (0, 10, 0, 0)),
            ((23, 59, 59, 29), (0, 0, 0, 0)),
        ):
            number = number_of(Timecode(*before), drop)
            self.assertEqual(timecode_of((number + 1) % 2589408, drop), Timecode(*after))
        self.assertEqual(number_of(Timecode(1, 0, 0, 0), drop), 107892)
        for number in range(0, 107892, 61):
            self.assertEqual(number_of(timecode_of(number, drop), drop), number)
        # an hour of it is an hour within 4 ms
        self.assertAlmostEqual(seconds_of(Timecode(1, 0, 0, 0), drop), 3600.0, delta=0.004)

    def test_as_people_type_it(self) -> None:
        self.assertEqual(read_timecode("01:02:03;04", RATES["25"]), Timecode(1, 2, 3, 4))
        for text in ("1", "25:00:00:00", "01:00:00:25", "aa:00:00:00", "00:01:00;00"):
            rate = RATES["29.97drop" if ";" in text else "25"]
            with self.assertRaisesRegex(InputError, "is no timecode"):
                read_timecode(text, rate)


class Sound(unittest.TestCase):
    def test_every_rate_is_read_back_to_the_sample(self) -> None:
        for name, rate in RATES.items():
            start = Timecode(9, 59, 58, 3)
            for rate_hz in (44100, 48000, 96000):
                with self.subTest(name, rate_hz=rate_hz):
                    found = find(as_sound(start, rate, 4.0, rate_hz), rate_hz)
                    assert found
                    self.assertEqual((found.rate, found.broken), (rate, 0))
                    wanted = seconds_of(found.first, rate) - seconds_of(start, rate)
                    self.assertAlmostEqual(found.at_s, wanted, delta=1.0 / rate_hz)
                    self.assertGreater(found.frames, 4.0 * float(rate.real) - 3)

    def test_late_soft_turned_round_and_in_noise(self) -> None:
        rate, start = RATES["25"], Timecode(1, 0, 0, 0)
        sound = np.pad(as_sound(start, rate, 3.0, RATE_HZ), (12345, 0))
        sound = -0.02 * sound + noise(1, len(sound) / RATE_HZ, 3, 0.0004)[0]
        found = find(sound.astype(np.float32), RATE_HZ)
        assert found
        self.assertEqual(found.broken, 0)
        self.assertAlmostEqual(found.offset_s, 3600.0 - 12345 / RATE_HZ, delta=2e-4)

    def test_a_jump_is_counted_and_other_sounds_have_none(self) -> None:
        rate = RATES["24"]
        parts = [as_sound(Timecode(1, 0, n, 0), rate, 1.0, RATE_HZ) for n in (0, 5)]
        found = find(np.concatenate(parts), RATE_HZ)
        assert found
        self.assertEqual(found.broken, 1)
        for sound in (noise(1, 2.0)[0], np.zeros(RATE_HZ), np.zeros(0)):
            self.assertIsNone(find(sound.astype(np.float32), RATE_HZ))

    def test_its_level_and_its_beginning(self) -> None:
        sound = as_sound(Timecode(0, 0, 0, 0), RATES["30"], 1.0, RATE_HZ)
        self.assertEqual(len(sound), RATE_HZ)
        self.assertAlmostEqual(float(np.abs(sound).max()), 0.25, places=3)


class Outside(unittest.TestCase):
    """Held against libltc, Debian's decoder of linear timecode (LGPL, libltc11)."""

    def decoded(self, sound: np.ndarray) -> list[tuple[Timecode, int]]:
        """What the outside decoder reads: each frame, and the sample that it begins with."""
        library = ctypes.CDLL("libltc.so.11")
        library.ltc_decoder_create.restype = ctypes.c_void_p
        decoder = ctypes.c_void_p(library.ltc_decoder_create(RATE_HZ // 25, 4096))
        samples = np.ascontiguousarray(sound, dtype=np.float32)
        library.ltc_decoder_write_float.argtypes = [
            *(ctypes.c_void_p, ctypes.c_void_p, ctypes.c_size_t, ctypes.c_longlong)
        ]
        library.ltc_decoder_write_float(decoder, samples.ctypes.data, len(samples), 0)
        found = []
        frame = ctypes.create_string_buffer(1024)
        while library.ltc_decoder_read(decoder, frame):
            told = ctypes.create_string_buffer(64)
            library.ltc_frame_to_time(told, frame, 0)
            hours, minutes, seconds, number = told.raw[9:13]  # behind the zone and the date
            begins = int.from_bytes(frame.raw[16:24], "little", signed=True)
            found.append((Timecode(hours, minutes, seconds, number), begins))
        library.ltc_decoder_free(decoder)
        return found

    def test_every_frame_is_read_by_an_outside_decoder(self) -> None:
        for name, rate in RATES.items():
            with self.subTest(name):
                first = number_of(Timecode(0, 59, 59, 0), rate)
                sound = as_sound(timecode_of(first, rate), rate, 3.0, RATE_HZ)
                found = self.decoded(sound)
                self.assertGreater(len(found), 65)
                for code, begins in found:
                    number = round(begins / RATE_HZ * float(rate.real))
                    self.assertEqual(code, timecode_of(first + number, rate))
                    # its own clock follows the edges within a bit
                    wanted = number * RATE_HZ / float(rate.real)
                    self.assertLess(abs(begins - wanted), RATE_HZ / 25 / 80)
