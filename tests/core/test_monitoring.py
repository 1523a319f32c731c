"""Headphones and loudspeakers.

Responses read and corrected, sets aligned, the practice room measured and mended.
"""

from pathlib import Path

import numpy as np

from metaphon.core.document.targets import target_named
from metaphon.core.errors import InputError
from metaphon.core.listen.device import in_room
from metaphon.core.listen.headphones import (
    PRACTICE,
    SHIPPED,
    correction_taps,
    filter_response_db,
    read_response,
    wanted_change_db,
    worn_taps,
)
from metaphon.core.listen.loudspeakers import LoudspeakerFeeds, TestSignal, made_up
from metaphon.core.listen.monitor import Correction, Loudspeaker, LoudspeakerSet, Room
from metaphon.core.listen.practice_room import calibrated, measure, standing
from metaphon.core.spatial.binaural import loudspeaker_responses
from metaphon.core.spatial.downmix import PUBLISHED
from metaphon.core.spatial.head import SHIPPED as SHIPPED_HEAD
from metaphon.core.spatial.head import load_head
from tests.sounds import RATE_HZ, FolderTest, noise

FREQUENCIES = np.geomspace(30.0, 18000.0, 200)


class Responses(FolderTest):
    def text(self, content: str, name: str = "mine.csv") -> Path:
        path = self.folder / name
        path.write_text(content)
        return path

    def test_what_is_read(self) -> None:
        rows = [
            (f, 3.0 if f < 200 else 0.0) for f in (20, 50, 100, 250, 500, 1000, 2000, 5000, 20000)
        ]
        for separator in (",", ";", "\t"):
            text = (
                "Frequency"
                + separator
                + "dB\n"
                + "\n".join(f"{f}{separator}{db}" for f, db in rows)
            )
            response = read_response(self.text(text, f"r{ord(separator)}.csv"))
            np.testing.assert_allclose(response.at(np.array([50.0, 1000.0])), [[3.0, 0.0]] * 2)
        both = read_response(
            self.text("\n".join(f"{f},{db},{db - 1}" for f, db in rows), "both.csv")
        )
        np.testing.assert_allclose(np.subtract(*both.at(FREQUENCIES)), 1.0)

    def test_what_is_refused_in_one_sentence(self) -> None:
        good = [f"{f},0" for f in (20, 50, 100, 250, 500, 1000, 2000, 5000)]
        for name, content, words in (
            ("a.csv", "nothing here", "holds no response"),
            ("b.csv", "\n".join([*good[:4], "rubbish,rubbish", *good[4:]]), "Line 5"),
            ("c.csv", "\n".join([*good, "5000,1"]), "twice"),
            ("d.csv", "\n".join(f"{f},0" for f in range(300, 1500, 100)), "200 Hz to 2 kHz"),
            ("e.sofa", "not a sofa", "SOFA"),
        ):
            with self.assertRaisesRegex(InputError, words):
                read_response(self.text(content, name))
        with self.assertRaisesRegex(InputError, "not a headphone file"):
            read_response(SHIPPED_HEAD)

    def test_correction_is_bounded_and_keeps_to_its_band(self) -> None:
        rows = [(f, -30.0 if 3000 < f < 6000 else 0.0) for f in np.geomspace(20, 20000, 60)]
        path = self.text("\n".join(f"{f:.2f},{db}" for f, db in rows))
        correction = Correction(response=path, most_boost_db=6.0, low_hz=100.0, high_hz=5000.0)
        change = wanted_change_db(correction, FREQUENCIES)
        self.assertAlmostEqual(change.max(), 6.0, places=6)
        np.testing.assert_allclose(
            change[:, (FREQUENCIES < 70) | (FREQUENCIES > 7100)], 0.0, atol=1e-9
        )
        half = wanted_change_db(correction.model_copy(update={"strength": 50.0}), FREQUENCIES)
        np.testing.assert_allclose(half, change / 2)

    def test_both_phases_do_what_is_wanted(self) -> None:
        for phase in ("minimum", "linear"):
            correction = Correction(response=SHIPPED / "closed_pair.csv", phase=phase)
            taps = correction_taps(correction, RATE_HZ)
            done = filter_response_db(taps, FREQUENCIES, RATE_HZ)
            np.testing.assert_allclose(done, wanted_change_db(correction, FREQUENCIES), atol=0.6)
            self.assertEqual(np.allclose(taps, taps[:, ::-1], atol=1e-6), phase == "linear")

    def test_the_practice_pair_is_flat_once_corrected(self) -> None:
        """The simulated pair worn, through its own correction.

        Within 1 dB from 100 Hz to 10 kHz.
        """
        middle = np.geomspace(100.0, 10000.0, 300)
        for phase in ("minimum", "linear"):
            correction = Correction(response=PRACTICE, phase=phase)
            heard = filter_response_db(worn_taps(PRACTICE, RATE_HZ), middle, RATE_HZ)
            self.assertGreater(np.abs(heard).max(), 4.0)  # there is something to correct
            heard = heard + filter_response_db(
                correction_taps(correction, RATE_HZ), middle, RATE_HZ
            )
            self.assertLess(np.abs(heard).max(), 1.0)


class Loudspeakers(FolderTest):
    def test_distances_are_made_up_for(self) -> None:
        """3.43 m nearer is 10 ms earlier at 343 m/s, and half the distance 6.02 dB louder."""
        rows = (
            Loudspeaker(distance_m=6.86),
            Loudspeaker(distance_m=3.43, trim_db=-1.0, inverted=True),
        )
        delays, gains = made_up(LoudspeakerSet(layout="0+2+0", loudspeakers=rows)).T
        np.testing.assert_allclose(delays, [0.0, 0.01], atol=1e-9)
        np.testing.assert_allclose(20 * np.log10(np.abs(gains)), [0.0, -7.02], atol=0.01)
        self.assertLess(gains[1], 0.0)

    def test_feeds_reach_the_outputs_they_are_wired_to(self) -> None:
        rows = (Loudspeaker(output=2), Loudspeaker(output=1, delay_ms=1.0))
        feeds = LoudspeakerFeeds(
            LoudspeakerSet(layout="0+2+0", loudspeakers=rows),
            target_named("0+2+0"),
            RATE_HZ,
            PUBLISHED,
        )
        sound = noise(2, 0.1).astype(np.float32)
        out = feeds.process(sound)
        np.testing.assert_allclose(out[1], sound[0])
        np.testing.assert_allclose(out[0, 48:], sound[1, :-48])

    def test_the_test_signal_walks_and_counts(self) -> None:
        signal = TestSignal(LoudspeakerSet(layout="0+5+0", test="code"), RATE_HZ)
        sound = np.concatenate([signal.process(4800) for _ in range(180)], axis=1)
        for channel in range(6):
            own = sound[channel, channel * 3 * RATE_HZ : (channel + 1) * 3 * RATE_HZ]
            self.assertEqual(np.count_nonzero(sound[channel]), np.count_nonzero(own))
            tone = np.abs(own[int(1.7 * RATE_HZ) :]) > 0.02
            sounding = np.convolve(tone, np.ones(400), "same") > 0.5
            tones = int(np.sum(sounding[1:] & ~sounding[:-1]))
            self.assertEqual(tones, (channel + 1) // 5 + (channel + 1) % 5)
        alone = TestSignal(
            LoudspeakerSet(layout="0+5+0", test="noise", test_channel=3), RATE_HZ
        ).process(9600)
        self.assertEqual(
            [bool(row.any()) for row in alone], [False, False, True, False, False, False]
        )

    def test_the_practice_room_is_found_out_and_mended(self) -> None:
        for layout in ("0+5+0", "4+7+0"):
            chosen = LoudspeakerSet(layout=layout, simulated=True)
            truth = {row.output: row for row in standing(layout)}
            for found in measure(layout, RATE_HZ):
                real = truth[found.output]
                due = real.distance_m / 343.0 * 1000 + real.late_ms
                self.assertAlmostEqual(found.delay_ms, due, delta=0.03)
                self.assertEqual(found.inverted, real.inverted)
                if not real.label.startswith("LFE"):
                    self.assertAlmostEqual(found.azimuth_deg, real.azimuth_deg, delta=1.0)
                    self.assertAlmostEqual(found.elevation_deg, real.elevation_deg, delta=1.0)
            mended, told = calibrated(chosen, RATE_HZ)
            self.assertEqual(len(told), 4)  # one reversed, one late, two outputs crossed
            arrival = []
            for row, real in zip(mended.loudspeakers, standing(layout), strict=True):
                self.assertEqual((row.output, row.inverted), (real.output, real.inverted))
                level = 20 * np.log10(2.0 / real.distance_m) + row.trim_db
                arrival.append(
                    (real.distance_m / 343.0 * 1000 + real.late_ms + row.delay_ms, level)
                )
            times, levels = np.array(arrival).T
            self.assertLess(np.ptp(times), 0.05)
            self.assertLess(np.ptp(levels), 0.3)


class Rooms(FolderTest):
    def test_without_reflections_a_room_is_the_free_field(self) -> None:
        head = load_head(SHIPPED_HEAD, RATE_HZ)
        free = loudspeaker_responses(head, "0+5+0")
        dead = in_room(head, "0+5+0", Room(absorption=1.0))
        np.testing.assert_allclose(dead[:, :, : free.shape[2]], free, atol=1e-6)
        live = in_room(head, "0+5+0", Room(absorption=0.2))
        self.assertGreater(np.sum(live[0] ** 2), 1.5 * np.sum(free[0] ** 2))
        np.testing.assert_allclose(
            live[0][:, :150], free[0][:, :150], atol=1e-3
        )  # the direct sound comes first
