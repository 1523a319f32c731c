"""Speech understood over noise, loudspeakers with little of a band, and a mix through them."""

import numpy as np

from metaphon.core.checks.translation import translate
from metaphon.core.document.targets import target_named
from metaphon.core.listen.device import device_for
from metaphon.core.listen.places import PLACES
from metaphon.core.measure.intelligibility import (
    BANDS_HZ,
    IMPORTANCE,
    NORMAL_SPEECH_DB,
    spectrum_levels_db,
    speech_intelligibility_index,
)
from metaphon.core.measure.thirds import THIRDS_HZ
from metaphon.core.spatial.downmix import PUBLISHED
from tests.sounds import RATE_HZ, FolderTest, noise, sine

QUIET = np.full(18, -60.0)


class Intelligibility(FolderTest):
    """ANSI S3.5-1997, by thirds of octaves; its tables from memory."""

    def test_the_importance_of_all_bands_is_one(self) -> None:
        self.assertAlmostEqual(IMPORTANCE.sum(), 1.0, places=9)
        np.testing.assert_allclose(BANDS_HZ[[0, 8, 17]], [158.49, 1000.0, 7943.3], rtol=1e-4)

    def test_normal_speech_in_quiet_is_understood(self) -> None:
        """0.996 is what published programs of the standard give (from memory)."""
        self.assertAlmostEqual(
            speech_intelligibility_index(NORMAL_SPEECH_DB, QUIET), 0.996, places=2
        )

    def test_noise_as_loud_leaves_half(self) -> None:
        """What is audible is (speech - noise + 15) / 30 of each band: half at 0 dB, all at 15."""
        for ratio_db, wanted in ((0.0, 0.5), (-9.0, 0.2), (9.0, 0.8), (-16.0, 0.0)):
            with self.subTest(ratio_db):
                found = speech_intelligibility_index(NORMAL_SPEECH_DB, NORMAL_SPEECH_DB - ratio_db)
                # a little less, since noise masks upwards too
                self.assertTrue(wanted - 0.05 <= found <= wanted + 0.01, found)

    def test_low_noise_masks_upwards(self) -> None:
        loud = QUIET.copy()
        loud[3] = 95.0
        alone = QUIET.copy()
        alone[3] = 40.0  # enough to hide its own band alone
        masked = speech_intelligibility_index(NORMAL_SPEECH_DB, loud)
        self.assertLess(masked, speech_intelligibility_index(NORMAL_SPEECH_DB, alone) - 0.2)

    def test_a_band_is_told_by_the_hertz(self) -> None:
        """A third at 1 kHz is 230.8 Hz wide (IEC 61260-1): 23.6 dB less."""
        self.assertAlmostEqual(spectrum_levels_db(np.ones(18))[8], -23.63, places=1)


class Places(FolderTest):
    def level_db(self, key: str, frequency_hz: float) -> float:
        """What a place makes of a tone on both sides."""
        place = next(one for one in PLACES if one.key == key)
        target = target_named(place.target)
        device = device_for(place.monitor, target, RATE_HZ, PUBLISHED)
        tone = np.zeros((target.channels, RATE_HZ), dtype=np.float32)
        tone[:2] = sine(frequency_hz, 1.0, -20.0)
        heard = device.process(tone)[:, RATE_HZ // 2 :]
        return float(20 * np.log10(np.abs(heard[0]).max()) + 20.0)

    def test_a_telephone_has_its_band(self) -> None:
        """ITU-T G.712: 300 to 3400 Hz (from memory)."""
        self.assertAlmostEqual(self.level_db("telephone", 1000.0), 0.0, delta=0.3)
        for frequency, least, most in (
            (300, -2, 0),
            (3400, -2, 0),
            (100, -60, -30),
            (5000, -60, -35),
        ):
            self.assertTrue(least <= self.level_db("telephone", frequency) <= most, frequency)

    def test_what_is_mono_loses_the_sides(self) -> None:
        place = next(one for one in PLACES if one.key == "club")
        device = device_for(place.monitor, target_named("0+2+0"), RATE_HZ, PUBLISHED)
        side = sine(1000.0, 0.5, -20.0).astype(np.float32)
        self.assertLess(np.abs(device.process(np.stack([side, -side]))).max(), 1e-6)

    def test_silence_is_silence_everywhere(self) -> None:
        for place in PLACES:
            target = target_named(place.target)
            device = device_for(place.monitor, target, RATE_HZ, PUBLISHED)
            silence = np.zeros((target.channels, 4096), dtype=np.float32)
            self.assertFalse(device.process(silence).any(), place.key)


class Translated(FolderTest):
    def test_what_a_telephone_does_to_a_mix(self) -> None:
        """A tone below its band sinks, one within stays, and speech is heard over what is gone."""
        self.write("low.wav", sine(80.0, 3.0, -12.0))
        self.write("mid.wav", sine(1000.0, 3.0, -30.0))
        self.write("voice.wav", noise(1, 3.0, 4, 0.05))
        mix = self.mix(
            [
                {"id": "low", "sound": "low.wav"},
                {"id": "mid", "sound": "mid.wav"},
                {"id": "voice", "sound": "voice.wav"},
            ],
        )
        found = {one.place: one for one in translate(mix, "voice").places}
        bands = dict(zip(THIRDS_HZ.round(), found["telephone"].bands_db, strict=True))
        self.assertAlmostEqual(bands[1000.0] or 0.0, 0.0, delta=0.5)
        self.assertLess(bands[79.0] or 0.0, -30.0)
        self.assertEqual(found["telephone"].sunk[0].track, "low")
        self.assertGreater(found["telephone"].sunk[0].less_db, 20.0)
        self.assertEqual(found["mix"].level_db, 0.0)
        self.assertEqual(found["mix"].sunk, [])
        self.assertIsNotNone(found["car"].intelligibility)

    def test_softer_speech_is_less_understood(self) -> None:
        self.write("voice.wav", noise(1, 2.0, 4, 0.05))
        self.write("rain.wav", noise(2, 2.0, 5, 0.05))
        indices = []
        for gain_db in (0.0, -12.0):
            tracks = [
                {"id": "voice", "sound": "voice.wav", "gain_db": gain_db},
                {"id": "rain", "sound": "rain.wav"},
            ]
            found = translate(self.mix(tracks), "voice").places[0].intelligibility
            assert found is not None
            indices.append(found)
        # 12 dB are 0.4 of 30 dB in every band that is neither hidden nor clear
        self.assertAlmostEqual(indices[0] - indices[1], 0.4, delta=0.1)
        self.assertIsNone(translate(self.mix(tracks), None).places[0].intelligibility)
